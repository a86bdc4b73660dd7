"""The wsgi application, for any production server."""

import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "greyanchor.config.settings")
application = get_wsgi_application()
