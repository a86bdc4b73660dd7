"""Django's own commands, for developers: `python manage.py makemigrations` and friends."""

import os
import sys

from django.core.management import execute_from_command_line

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "greyanchor.config.settings")
execute_from_command_line(sys.argv)
