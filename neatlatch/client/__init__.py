"""The client library: take request headers of connections by name, or send requests through the
relay, in a job that holds no secret of any application.

It requires httpx and nothing else of Neat Latch, so that a job can install it alone::

    from neatlatch.client import Latch

    latch = Latch()  # NLATCH_URL and NLATCH_KEY
    manifests = latch.relay("cargo-manifests", "/manifests").json()

:class:`Latch` is for ordinary code, :class:`AsyncLatch` for code with ``await``. Every failure is a
:class:`LatchError`, whose ``next_step`` says what to do.
"""

from .drawn import Connection, Drawn, Rung, SignedCall, TestResult
from .errors import (
    BadRequest,
    CallRejected,
    CannotReach,
    DeskFailed,
    KeyRefused,
    LatchError,
    NoKey,
    NotAllowed,
    NotFound,
    NotReady,
    TokenUnavailable,
    TooManyRequests,
    WrongOrigin,
)
from .latch import AsyncLatch, Latch
from .settings import Settings

__all__ = [
    "AsyncLatch",
    "BadRequest",
    "CallRejected",
    "CannotReach",
    "Connection",
    "DeskFailed",
    "Drawn",
    "KeyRefused",
    "Latch",
    "LatchError",
    "NoKey",
    "NotAllowed",
    "NotFound",
    "NotReady",
    "Rung",
    "Settings",
    "SignedCall",
    "TestResult",
    "TokenUnavailable",
    "TooManyRequests",
    "WrongOrigin",
]
