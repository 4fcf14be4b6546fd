"""The product's own settings, but for one: what makes passwords slow to guess would be a third of
the tests' time.
"""

from neatlatch.desk.settings import *  # noqa: F403

PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
