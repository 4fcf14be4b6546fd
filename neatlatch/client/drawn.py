"""What Neat Latch answers to jobs."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any
from urllib.parse import urlsplit

_DEFAULT_PORTS = {"http": 80, "https": 443}


def origin(url: str) -> tuple[str, str, int | None]:
    """Return scheme, host and port of an address (RFC 6454 §4)."""
    parts = urlsplit(url)
    port = parts.port or _DEFAULT_PORTS.get(parts.scheme)
    return parts.scheme, (parts.hostname or "").lower(), port


@dataclass(frozen=True)
class Drawn:
    """A ready way into an application: send ``headers`` and ``query`` with a request to an address
    below ``base``.
    """

    # The connection's reference: environment/name.
    ref: str
    # The application's API base address.
    base: str
    headers: dict[str, str] = field(repr=False)
    query: dict[str, str] = field(repr=False)
    # When what is in it expires; ``None``: it does not.
    ends: datetime | None

    @classmethod
    def of(cls, answer: Mapping[str, Any]) -> Drawn:
        """Read the answer to a draw. Raises ``ValueError``, ``KeyError`` or ``TypeError``."""
        ends = answer["ends"]
        return cls(
            str(answer["ref"]),
            str(answer["base"]),
            {str(name): str(value) for name, value in answer["headers"].items()},
            {str(name): str(value) for name, value in answer["query"].items()},
            datetime.fromisoformat(ends) if ends else None,
        )

    def url(self, path: str) -> str:
        """Return the address of a path below the base."""
        return f"{self.base.rstrip('/')}/{path.lstrip('/')}"

    def is_of(self, url: str) -> bool:
        """Whether an address is on the application's own server."""
        return origin(url) == origin(self.base)

    def lasts(self, now: datetime | None = None) -> timedelta | None:
        """Return for how long it still holds; ``None``: for as long as nobody changes it."""
        return None if self.ends is None else self.ends - (now or datetime.now(UTC))

    @property
    def digest(self) -> str:
        """What Neat Latch is told of a header that the application refused: SHA-256 (FIPS 180-4) of
        its value, in hexadecimal.
        """
        return hashlib.sha256(self.headers.get("Authorization", "").encode()).hexdigest()


@dataclass(frozen=True)
class Connection:
    """A connection that the workload uses."""

    name: str
    ref: str
    application: str
    # latched, sticking, unlatched, or not_proven.
    state: str
    operations: tuple[str, ...]


@dataclass(frozen=True)
class Rung:
    """A step of a test: find, reach, secure, sign_in, allowed or work."""

    rung: str
    passed: bool
    skipped: bool
    says: str


@dataclass(frozen=True)
class TestResult:
    """How a test went, and the likely causes where it failed."""

    # It is no test of pytest's.
    __test__ = False

    ref: str
    passed: bool
    rungs: tuple[Rung, ...]
    causes: tuple[str, ...]


@dataclass(frozen=True)
class SignedCall:
    """A call that the application signed, and that is recent.

    ``id`` and ``sent_at`` are the application's own (empty and ``None``: it sends none).
    ``seen_at``: when the same call was accepted before; ``None``: it is new.
    """

    id: str
    sent_at: datetime | None
    seen_at: datetime | None

    @property
    def repeated(self) -> bool:
        """Whether it came before: do not do again what it says."""
        return self.seen_at is not None
