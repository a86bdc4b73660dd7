"""Make the demo data, unless they are there."""

from __future__ import annotations

import time
from typing import Any

from django.core.management.base import BaseCommand

from greyanchor.demo import seed


class Command(BaseCommand):
    help = "Make the demo data, unless they are there."

    def handle(self, *args: Any, **options: Any) -> None:
        if seed.is_seeded():
            return
        began = time.perf_counter()
        self.stdout.write("Making the demo data through the stand-in devices, once:")
        seed.seed(lambda text: self.stdout.write(f"  {text}", ending="\n"))
        self.stdout.write(f"Demo data ready in {time.perf_counter() - began:.0f} s.")
