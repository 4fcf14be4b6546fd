"""The desk's own server.

``nlatch desk`` runs it, and so does the TLS listener: how long an unfinished request may stay, and
what is not said.
"""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import os
import signal
import sys
from multiprocessing import parent_process
from socket import IPPROTO_TCP, TCP_NODELAY
from typing import Any

import uvicorn
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol
from uvicorn.supervisors import Multiprocess

APPLICATION = "neatlatch.desk.pages.asgi:application"
# Seconds from a connection's first octet, or the end of the answer before, to the end of the next
# request's header.
HEADER_WITHIN = float(os.environ.get("NEATLATCH_HEADER_SECONDS", "20"))
# Octets of a request line with its header, or of a trailer.
HEADER_MOST = 64 * 1024


class HeaderTimeout:
    """Closes a connection whose header does not come to its end: half a header holds a place for
    ever otherwise. For a protocol of uvicorn's.
    """

    _waiting: asyncio.TimerHandle | None = None
    loop: asyncio.AbstractEventLoop
    transport: asyncio.Transport
    cycle: Any

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """A connection may wait so long for its first header."""
        super().connection_made(transport)  # type: ignore[misc]
        self._wait()

    def data_received(self, data: bytes) -> None:
        """Wait on, or no longer, where a header is complete.

        What comes of an unfinished one does not begin the wait anew.
        """
        super().data_received(data)  # type: ignore[misc]
        if self._is_serving():
            self._wait_no_more()
        elif self._waiting is None:
            self._wait()

    def connection_lost(self, exc: Exception | None) -> None:
        """Nothing is waited for."""
        self._wait_no_more()
        super().connection_lost(exc)  # type: ignore[misc]

    def _is_serving(self) -> bool:
        return self.cycle is not None and not self.cycle.response_complete

    def _wait(self) -> None:
        self._waiting = self.loop.call_later(HEADER_WITHIN, self._give_up)

    def _wait_no_more(self) -> None:
        if self._waiting is not None:
            self._waiting.cancel()
            self._waiting = None

    def _give_up(self) -> None:
        self._waiting = None
        if not self._is_serving() and not self.transport.is_closing():
            self.transport.close()


class DeskProtocol(HeaderTimeout, HttpToolsProtocol):
    """What the desk itself serves with: a header, a trailer and what stands beside a chunk have a
    length, too. The parser keeps all of them until they end, each piece copied to what came before,
    so that 100 MB of one field took 19 seconds in which nobody was served.
    """

    _unread = 0

    def data_received(self, data: bytes) -> None:
        """Count what was parsed and has come to nothing yet."""
        self._unread += len(data)
        super().data_received(data)
        if self._unread > HEADER_MOST and not self.transport.is_closing():
            self._refuse()

    def on_headers_complete(self) -> None:
        """The header came to something."""
        self._unread = 0
        super().on_headers_complete()

    def on_body(self, body: bytes) -> None:
        """So did a piece of a body."""
        self._unread = 0
        super().on_body(body)

    def on_message_complete(self) -> None:
        """And a whole request."""
        self._unread = 0
        super().on_message_complete()

    def _refuse(self) -> None:
        # While an answer is on its way another one cannot begin; the line is closed all the same.
        if not self._is_serving():
            says = b"The header is too long."
            self.transport.write(
                b"HTTP/1.1 431 Request Header Fields Too Large\r\ncontent-type: text/plain; "
                b"charset=utf-8\r\n"
                b"content-length: %d\r\nconnection: close\r\n\r\n%s" % (len(says), says)
            )
        self.transport.close()


class LoadedBeforeItsLoop(uvicorn.Config):
    """Settings by which the desk is loaded before any event loop runs, in whatever process: it
    looks into its database as it starts.
    """

    def get_loop_factory(self) -> Any:
        """What makes the loop, once the desk is loaded."""
        if not self.loaded:
            self.load()
        return super().get_loop_factory()


# The same in one of several processes.
_OF_SEVERAL = "neatlatch.desk.pages.one_of_several:application"


def run_several(host: str, port: int, processes: int) -> int:
    """Serve from several processes behind one socket until a signal ends them; one that dies is
    replaced. The exit status.
    """
    several = config(host, port)
    several.app, several.workers = _OF_SEVERAL, processes
    # One that does not answer for so long hangs; a busy one answers between two steps.
    several.timeout_worker_healthcheck = 60
    socket = several.bind_socket()
    # A program on this machine is answered as fast as by one process.
    socket.setsockopt(IPPROTO_TCP, TCP_NODELAY, 1)
    Multiprocess(several, sockets=[socket]).run()
    return 0


def end_with_parent() -> None:
    """Have this process ended when the one that started it is gone, however that ended (prctl(2),
    Linux only).
    """
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None, use_errno=True).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)
    parent = parent_process()
    if parent is not None and os.getppid() != parent.pid:  # it ended before that was said
        sys.exit(0)


_PR_SET_PDEATHSIG = 1


def config(host: str, port: int, http: type[asyncio.Protocol] = DeskProtocol) -> uvicorn.Config:
    """The server's settings.

    Addresses with codes and links in them go into no log; what runs here is not named; no header
    says who calls (``NEATLATCH_PROXY`` has the desk itself look at that).
    """
    return LoadedBeforeItsLoop(
        APPLICATION,
        host=host,
        port=port,
        http=http,
        lifespan="off",
        access_log=False,
        log_level="warning",
        server_header=False,
        proxy_headers=False,
        # A program that draws every few seconds keeps its connection; closed in that very moment it
        # would see an error.
        timeout_keep_alive=75,
        timeout_graceful_shutdown=3,
    )
