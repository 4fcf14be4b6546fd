"""``httpx`` authentication by drawn headers: draws, keeps, renews, and repeats once where that is
safe.
"""

from __future__ import annotations

import asyncio
import threading
import time
from collections.abc import AsyncGenerator, Generator
from datetime import timedelta
from typing import TYPE_CHECKING

import httpx

from .drawn import Drawn
from .errors import LatchError, WrongOrigin

if TYPE_CHECKING:
    from .latch import AsyncLatch, Latch

# A header that does not end is drawn again after so many seconds, so that a job moves to a new
# secret by itself; one that ends, so long before its end.
_KEPT, _MARGIN = 60.0, timedelta(seconds=30)
# What Neat Latch answers where each request is signed by itself.
_SIGNS_EACH = "request-signature-required"


class _Kept:
    """The header that was drawn last, and until when it serves (by the monotonic clock)."""

    def __init__(self) -> None:
        self.drawn: Drawn | None = None
        self.until = 0.0
        self.signs_each = False

    def ready(self) -> Drawn | None:
        """Return the header, if it serves still."""
        return self.drawn if time.monotonic() < self.until else None

    def keep(self, drawn: Drawn) -> Drawn:
        """Keep a header for a while."""
        lasts = drawn.lasts()
        seconds = _KEPT
        if lasts is not None:
            # Of a token that lives for a minute, half of its life.
            seconds = max((lasts - _MARGIN).total_seconds(), lasts.total_seconds() / 2)
        self.drawn, self.until = drawn, time.monotonic() + seconds
        return drawn


def _put(request: httpx.Request, drawn: Drawn) -> None:
    """Put a drawn header on a request. Raises :class:`WrongOrigin`."""
    if not drawn.is_of(str(request.url)):
        raise WrongOrigin(
            f"{request.url.copy_with(userinfo=b'', query=None)} is not below {drawn.base}.",
            f"The header of {drawn.ref} is for that address only.",
        )
    request.headers.update(drawn.headers)
    if drawn.query:
        request.url = request.url.copy_merge_params(drawn.query)


def _can_be_sent_again(request: httpx.Request) -> bool:
    """Whether its body is no stream that is used up by sending it."""
    return isinstance(request.stream, httpx.ByteStream)


class DrawAuth(httpx.Auth):
    """Authentication of an :class:`httpx.Client` by one connection. Threads may share it."""

    def __init__(self, latch: Latch, name: str) -> None:
        self._latch, self._name = latch, name
        self._kept, self._lock = _Kept(), threading.Lock()

    def sync_auth_flow(
        self, request: httpx.Request
    ) -> Generator[httpx.Request, httpx.Response, None]:
        """Send a request with a drawn header, and once more with a new one where it is refused."""
        drawn, repeatable = self._drawn(request), _can_be_sent_again(request)
        _put(request, drawn)
        response = yield request
        # 401 says that it was not carried out (RFC 9110 §15.5.2), so any method may be repeated.
        if self._kept.signs_each or response.status_code != 401 or not repeatable:
            return
        newer = self._newer(drawn)
        if newer.headers != drawn.headers:
            _put(request, newer)
            yield request

    async def async_auth_flow(
        self, request: httpx.Request
    ) -> AsyncGenerator[httpx.Request, httpx.Response]:
        """Refuse: this one waits in threads."""
        raise TypeError("Use AsyncLatch.httpx_auth with httpx.AsyncClient.")
        yield request

    def _drawn(self, request: httpx.Request) -> Drawn:
        with self._lock:
            if not self._kept.signs_each:
                if (drawn := self._kept.ready()) is not None:
                    return drawn
                try:
                    return self._kept.keep(self._latch.draw(self._name))
                except LatchError as error:
                    if error.code != _SIGNS_EACH:
                        raise
                    self._kept.signs_each = True
        return self._latch.draw(self._name, method=request.method, url=str(request.url))

    def _newer(self, refused: Drawn) -> Drawn:
        with self._lock:
            drawn = self._kept.ready()
            if drawn is not None and drawn.headers != refused.headers:
                return drawn  # another thread has renewed it
            return self._kept.keep(self._latch.draw(self._name, refused=refused))


class AsyncDrawAuth(httpx.Auth):
    """The same for an :class:`httpx.AsyncClient`. Tasks of one loop may share it."""

    def __init__(self, latch: AsyncLatch, name: str) -> None:
        self._latch, self._name = latch, name
        self._kept, self._lock = _Kept(), asyncio.Lock()

    def sync_auth_flow(
        self, request: httpx.Request
    ) -> Generator[httpx.Request, httpx.Response, None]:
        """Refuse: this one waits in tasks."""
        raise TypeError("Use Latch.httpx_auth with httpx.Client.")
        yield request

    async def async_auth_flow(
        self, request: httpx.Request
    ) -> AsyncGenerator[httpx.Request, httpx.Response]:
        """Send a request with a drawn header, and once more with a new one where it is refused."""
        drawn, repeatable = await self._drawn(request), _can_be_sent_again(request)
        _put(request, drawn)
        response = yield request
        if self._kept.signs_each or response.status_code != 401 or not repeatable:
            return
        newer = await self._newer(drawn)
        if newer.headers != drawn.headers:
            _put(request, newer)
            yield request

    async def _drawn(self, request: httpx.Request) -> Drawn:
        async with self._lock:
            if not self._kept.signs_each:
                if (drawn := self._kept.ready()) is not None:
                    return drawn
                try:
                    return self._kept.keep(await self._latch.draw(self._name))
                except LatchError as error:
                    if error.code != _SIGNS_EACH:
                        raise
                    self._kept.signs_each = True
        return await self._latch.draw(self._name, method=request.method, url=str(request.url))

    async def _newer(self, refused: Drawn) -> Drawn:
        async with self._lock:
            drawn = self._kept.ready()
            if drawn is not None and drawn.headers != refused.headers:
                return drawn  # another task has renewed it
            return self._kept.keep(await self._latch.draw(self._name, refused=refused))
