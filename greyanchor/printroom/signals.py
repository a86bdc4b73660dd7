"""What others hear of: sent within the transaction in which it happened."""

from __future__ import annotations

from django.dispatch import Signal

#: sent with `record`, a print file, when it was prepared
prepared = Signal()
#: sent with `record`, a print, when it is done, failed or cancelled
print_over = Signal()
