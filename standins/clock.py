"""The time: the machine's, or that of a file which a test steps from event to event
(``NEATLATCH_TEST_CLOCK``: seconds since 1970, as text).

TLS itself goes by the machine's clock.
"""

from __future__ import annotations

import datetime as dt
import os
import time

_WIDTH = 32
_named = os.environ.get("NEATLATCH_TEST_CLOCK", "")
_descriptor = os.open(_named, os.O_RDONLY) if _named else None


def now() -> float:
    """Seconds since 1970."""
    return time.time() if _descriptor is None else float(os.pread(_descriptor, _WIDTH, 0))


def moment() -> dt.datetime:
    """The same as a moment, in UTC."""
    return dt.datetime.fromtimestamp(now(), dt.UTC)
