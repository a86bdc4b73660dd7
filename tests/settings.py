"""Settings of the test suite: a database in memory, tasks run at once, quick password hashes.

TEST_DATABASE_URL   another database, as tests/servers sets it to try the suite on PostgreSQL
"""

from __future__ import annotations

import os
import tempfile

os.environ.setdefault("GREYANCHOR_HOME", tempfile.mkdtemp(prefix="greyanchor-test-"))
os.environ.setdefault("SECRET_KEY", "tests only")

import dj_database_url

from greyanchor.config.settings import *  # noqa: F403

DATABASES = {"default": dj_database_url.parse(os.environ.get("TEST_DATABASE_URL", "sqlite://:memory:"))}
HUEY = {"huey_class": "huey.MemoryHuey", "name": "test", "immediate": True}
CACHES = {"default": {"BACKEND": "django.core.cache.backends.dummy.DummyCache"}}
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
AXES_ENABLED = False
ALLOWED_HOSTS = ["*"]
DEMO = True
LOGGING = {"version": 1, "disable_existing_loggers": False}
MIDDLEWARE = ["tests.one_line.OneLine", *MIDDLEWARE]  # noqa: F405
