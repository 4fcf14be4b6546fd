"""Sessions, kept by a digest of their keys: anyone who reads the database, or a copy of it, cannot
log in with what stands there.
"""

from __future__ import annotations

import hashlib
from typing import Any

from django.contrib.auth import SESSION_KEY
from django.contrib.sessions.backends import db
from django.utils import timezone
from django.utils.dateparse import parse_datetime

# Where a session's data says when and from where it was begun.
LOG_IN = "log_in"


def digest(key: str) -> str:
    """What is kept of a session's key: 160 bits of its SHA-256 (FIPS 180-4) in hexadecimal, for
    which the table has room. The key holds more than 160 random bits.
    """
    return hashlib.sha256(key.encode()).hexdigest()[:40]


class SessionStore(db.SessionStore):
    """Django's own store in the database, but for what stands there as the key."""

    @classmethod
    def get_model_class(cls) -> Any:
        """Our own, which says whose it is."""
        from .models import Session  # apps are not ready when the settings name this module

        return Session

    def _kept(self) -> Any:
        """The rows of this session."""
        return self.model.objects.filter(session_key=digest(self.session_key or ""))

    def _get_session_from_db(self) -> Any:
        found = self._living().first()
        if found is None:
            self._session_key = None
        return found

    async def _aget_session_from_db(self) -> Any:
        found = await self._living().afirst()
        if found is None:
            self._session_key = None
        return found

    def _living(self) -> Any:
        return self._kept().filter(expire_date__gt=timezone.now())

    def exists(self, session_key: str) -> bool:
        """Whether there is a session of this key."""
        return super().exists(digest(session_key))

    async def aexists(self, session_key: str) -> bool:
        """Whether there is a session of this key."""
        return await super().aexists(digest(session_key))

    def create_model_instance(self, data: dict[str, Any]) -> Any:
        """The row to be saved."""
        return _as_row(super().create_model_instance(data), data)

    async def acreate_model_instance(self, data: dict[str, Any]) -> Any:
        """The row to be saved."""
        return _as_row(await super().acreate_model_instance(data), data)

    def delete(self, session_key: str | None = None) -> None:
        """Remove this session, or the one of a key."""
        if (key := session_key or self.session_key) is not None:
            self.model.objects.filter(session_key=digest(key)).delete()

    async def adelete(self, session_key: str | None = None) -> None:
        """Remove this session, or the one of a key."""
        if (key := session_key or self.session_key) is not None:
            await self.model.objects.filter(session_key=digest(key)).adelete()


def _as_row(row: Any, data: dict[str, Any]) -> Any:
    """The row with a digest in place of the key, and with whose it is, and when and from where it
    was begun.
    """
    said = data.get(LOG_IN) or {}
    row.session_key, row.person_id = digest(row.session_key), data.get(SESSION_KEY)
    row.begun, row.seen = (
        parse_datetime(said[name]) if said.get(name) else None for name in ("begun", "seen")
    )
    row.address, row.browser = str(said.get("address", ""))[:45], str(said.get("browser", ""))[:200]
    return row
