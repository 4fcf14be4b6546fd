"""Settings of the tests: a home of their own, and background work done at once."""

import os
import tempfile
from pathlib import Path

# In memory where the machine has such a place: every commit is synced, and a busy disk would stall
# the tests.
_MEMORY = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
HOME_OF_TESTS = Path(
    os.environ.get("NEATLATCH_TEST_HOME") or tempfile.mkdtemp(prefix="neatlatch-test-", dir=_MEMORY)
)
os.environ.update(
    {
        "NEATLATCH_TEST_HOME": str(HOME_OF_TESTS),
        "NEATLATCH_HOME": str(HOME_OF_TESTS / "desk"),
        "NEATLATCH_URL": "http://127.0.0.1:8600",
        "NEATLATCH_TRUST": str(HOME_OF_TESTS / "standins" / "certificates" / "root.pem"),
        "NEATLATCH_ALLOWED_RANGES": "127.0.0.0/8,::1/128",
    }
)

from neatlatch.desk.settings import *  # noqa: E402, F403

# The queue works at once, in the test's own process.
HUEY = {"huey_class": "huey.MemoryHuey", "name": "tests", "immediate": True}
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
# A file, so that threads see it, and so that its raw octets can be searched for secrets.
DATABASES["default"]["TEST"] = {"NAME": str(HOME_OF_TESTS / "desk" / "test.sqlite3")}  # noqa: F405
