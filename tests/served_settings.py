"""Settings of servers that tests start: those of the product, with quick password hashes; a sign-in would
take a second of a busy machine otherwise.
"""

from greyanchor.config.settings import *  # noqa: F403

PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
