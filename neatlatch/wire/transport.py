"""The transport of a call: find the name, reach the address, secure the connection, send the
request.

A transport keeps what it opened. So the ladder can go step by step, with each step timed, and the
HTTP call afterwards runs on the very connection that was examined.
"""

from __future__ import annotations

import math
import os
import select
import socket
import ssl
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import lru_cache
from types import TracebackType
from typing import Any

import httpcore
import httpx

from neatlatch.core.destinations import origin_of, origins_in_words
from neatlatch.core.evidence import CauseClass, Exchange, Failure, mask_body, mask_headers, mask_url
from neatlatch.core.oauth2 import Request

from .policy import Policy, are_of_this_machine
from .unpacking import ACCEPTED, BadCoding, TooLarge, unpacked

USER_AGENT = "neatlatch"
# Seconds after which a connection that a transport keeps is not used again.
_KEPT_OPEN = 15.0
# Header fields that carry a secret, also where a request does not say which of its values are.
_BEARING = frozenset({"authorization", "cookie", "proxy-authorization"})


@dataclass(frozen=True)
class CallLimits:
    """Seconds to connect, seconds for a call in all; octets of an answer's content, and of what
    comes before and around it.
    """

    connect: float = 5.0
    total: float = 30.0
    size: int = 2 * 1024 * 1024
    head: int = 256 * 1024


class TransportError(Exception):
    """The call failed on its way; ``failure`` says where, ``exchange`` what was sent, if anything
    was.
    """

    def __init__(self, failure: Failure) -> None:
        super().__init__(f"{failure.kind}: {failure.code} {failure.detail}")
        self.failure = failure
        self.exchange: Exchange | None = None

    @property
    def never_sent(self) -> bool:
        """Whether it is certain that nothing of the request left: no name, no connection, no
        address.
        """
        nowhere = ("refused", "unreachable", "forbidden_address")
        return self.failure.kind in ("resolver", "setting") or self.failure.code in nowhere


class _NotSent(TransportError, httpcore.WriteError):
    """The other side closed before it had read everything. httpcore then reads on: many servers
    answer, with what is wrong, and close.
    """


def _broken(
    kind: str, code: str, detail: str, cause: CauseClass = CauseClass.ROUTE
) -> TransportError:
    return TransportError(Failure(kind, code, cause, detail))


def tls_code(error: Exception) -> str:
    """Our short name for a TLS error: what the verifier found, else the alert (RFC 8446 §6.2)."""
    if isinstance(error, ssl.SSLCertVerificationError):
        by_number = {
            10: "expired",
            9: "not_yet_valid",
            18: "self_signed",
            19: "untrusted",
            20: "untrusted",
            21: "untrusted",
            23: "revoked",
            62: "name",
            64: "name",
        }  # fmt: skip  (X509_V_ERR_* of OpenSSL)
        return by_number.get(error.verify_code, "untrusted")
    text = str(error).lower()
    for sign, code in (
        ("certificate required", "certificate_required"),
        ("certificate_required", "certificate_required"),
        ("bad certificate", "bad_certificate"),
        ("alert unknown ca", "unknown_ca"),
        ("alert certificate unknown", "bad_certificate"),
        ("alert unsupported certificate", "bad_certificate"),
        ("alert certificate expired", "certificate_expired"),
        ("alert certificate revoked", "certificate_revoked"),
        ("handshake failure", "handshake_failure"),
        ("protocol version", "protocol_version"),
        ("unsupported protocol", "protocol_version"),
        ("wrong version number", "not_tls"),
        ("record layer", "not_tls"),
    ):
        if sign in text:
            return code
    return "handshake_failure"


class LimitedStream(httpcore.NetworkStream):
    """A socket, plain or secured, as httpcore wants it. Every wait ends at the transport's
    deadline."""

    def __init__(self, sock: socket.socket, transport: Transport) -> None:
        self.sock, self.transport = sock, transport
        self.secured: LimitedStream | None = None

    def _wait(self, timeout: float | None) -> float:
        left = self.transport.deadline - time.monotonic()
        if left <= 0:
            raise _broken(
                "socket",
                "timeout",
                f"No complete answer within {self.transport.limits.total:.0f} s.",
            )
        return left if timeout is None else min(timeout, left)

    def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        """Some octets, or none at the end."""
        self.sock.settimeout(self._wait(timeout))
        if self.transport.unread <= 0:
            raise _broken(
                "socket",
                "too_large",
                "The answer begins with too much, or wraps its content in too much.",
                CauseClass.THEIRS,
            )
        try:
            got = self.sock.recv(max_bytes)
            self.transport.unread -= len(got)
            return got
        except TimeoutError as error:
            raise _broken(
                "socket", "timeout", f"No answer within {self.transport.limits.total:.0f} s."
            ) from error
        except ssl.SSLError as error:  # with TLS 1.3 a refused client certificate shows only now
            raise _broken("tls", tls_code(error), str(error), CauseClass.TLS) from error
        except OSError as error:
            raise _broken("socket", "reset", str(error)) from error

    def write(self, buffer: bytes, timeout: float | None = None) -> None:
        """All octets."""
        self.sock.settimeout(self._wait(timeout))
        try:
            self.sock.sendall(buffer)
        except TimeoutError as error:
            raise _broken("socket", "timeout", "The request could not be sent in time.") from error
        except ssl.SSLError as error:
            raise _broken("tls", tls_code(error), str(error), CauseClass.TLS) from error
        except OSError as error:
            raise _NotSent(Failure("socket", "reset", CauseClass.ROUTE, str(error))) from error

    def close(self) -> None:
        """Close the socket."""
        self.sock.close()

    def start_tls(
        self,
        ssl_context: ssl.SSLContext,
        server_hostname: str | None = None,
        timeout: float | None = None,
    ) -> LimitedStream:
        """The secured line: the one made before, if there is one."""
        if self.secured is None:
            self.secured = self.transport.wrap(self, server_hostname or "")
        return self.secured

    def get_extra_info(self, info: str) -> Any:
        """What httpcore asks of a stream."""
        if info == "ssl_object" and isinstance(self.sock, ssl.SSLSocket):
            return self.sock
        if info == "is_readable":
            if self.sock.fileno() < 0:
                return True
            return bool(select.select([self.sock], [], [], 0)[0])
        return self.sock if info == "socket" else None


@dataclass(frozen=True)
class HttpReply:
    """An answer in full, with the masked exchange that proves it."""

    status: int
    headers: dict[str, str]
    text: str
    exchange: Exchange
    octets: bytes = b""


@dataclass(frozen=True)
class StreamedReply:
    """An answer in full, of which no evidence is kept."""

    status: int
    headers: dict[str, str]
    octets: bytes


@dataclass(frozen=True)
class ClientCertificate:
    """Our certificate with its chain, and its private key, in PEM."""

    chain: str
    key: str

    def __repr__(self) -> str:
        return "ClientCertificate(•••)"


def _new_context(trust: str) -> ssl.SSLContext:
    context = ssl.create_default_context()
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.set_alpn_protocols(["http/1.1"])
    if trust:
        context.load_verify_locations(cafile=trust)
    return context


@lru_cache(maxsize=8)
def _kept_context(trust: str, changed: int) -> ssl.SSLContext:
    """The settings of TLS without a client certificate: reading the machine's authorities takes
    longer than a call. Made anew when the file changes.
    """
    return _new_context(trust)


def _load(context: ssl.SSLContext, shown: ClientCertificate) -> None:
    """The library reads files only; this one is in memory, and gone when it is closed."""
    descriptor = os.memfd_create("client-certificate", os.MFD_CLOEXEC)
    try:
        with os.fdopen(descriptor, "w", closefd=False) as out:
            out.write(f"{shown.key.rstrip()}\n{shown.chain}")
        try:
            context.load_cert_chain(f"/proc/self/fd/{descriptor}")
        except ssl.SSLError as error:
            raise _broken(
                "setting",
                "client_certificate",
                "The client certificate and its private key do not go together, or cannot be read.",
                CauseClass.TLS,
            ) from error
    finally:
        os.close(descriptor)


@dataclass
class Transport(httpcore.NetworkBackend):
    """A direct transport. It serves one test or one act; close it afterwards.

    ``trust`` is a file of extra certificate authorities in PEM; ``shows`` is the client certificate
    for servers that ask for one; ``goes_to`` are the origins that requests with a secret in them
    may go to (none by default: such a transport fetches what is public). All failures are
    :class:`TransportError`.
    """

    policy: Policy = field(default_factory=Policy)
    limits: CallLimits = field(default_factory=CallLimits)
    trust: str = ""
    shows: ClientCertificate | None = None
    goes_to: frozenset[str] = frozenset()

    def __post_init__(self) -> None:
        if self.shows is None:
            self.context = _kept_context(
                self.trust, os.stat(self.trust).st_mtime_ns if self.trust else 0
            )
        else:
            self.context = _new_context(self.trust)
            _load(self.context, self.shows)
        self._last = math.inf
        self.begin()
        self._found: dict[str, list[str]] = {}
        self._open: dict[tuple[str, int], LimitedStream] = {}
        self._pool = httpcore.ConnectionPool(
            ssl_context=self.context,
            network_backend=self,
            max_connections=8,
            keepalive_expiry=_KEPT_OPEN,
        )
        # No time limits of httpx's own: each connection keeps the transport's deadline.
        self._client = httpx.Client(
            transport=_HttpxTransport(self._pool),
            headers={"User-Agent": USER_AGENT, "Accept-Encoding": ACCEPTED},
            timeout=None,  # noqa: S113
        )
        self._client.follow_redirects = False

    def __enter__(self) -> Transport:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close every line."""
        self._client.close()
        for line in self._open.values():
            line.close()
        self._open.clear()

    def find(self, host: str) -> list[str]:
        """The IP addresses of a host, as often as asked from the same answer.

        Refuses those that must not be called.
        """
        bare = host.strip("[]")
        if bare not in self._found:
            try:
                answers = socket.getaddrinfo(bare, None, type=socket.SOCK_STREAM)
            except socket.gaierror as error:
                silent = error.errno == socket.EAI_AGAIN
                raise _broken(
                    "resolver",
                    "resolver_silent" if silent else "no_such_name",
                    f"{bare}: {error.strerror}",
                ) from error
            except UnicodeError as error:
                raise _broken("resolver", "no_such_name", f"{bare} is not a host name.") from error
            found = list(dict.fromkeys(str(answer[4][0]) for answer in answers))
            good = [address for address in found if self.policy.allows(address)]
            if not good:
                raise _broken("socket", "forbidden_address", f"{bare} is {', '.join(found)}.")
            self._found[bare] = good
        return self._found[bare]

    def reach(self, host: str, port: int) -> LimitedStream:
        """Open a connection to a host and port, trying each of its addresses."""
        last: TransportError | None = None
        for address in self.find(host):
            try:
                sock = socket.create_connection((address, port), timeout=self.limits.connect)
                sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                self._open[host, port] = LimitedStream(sock, self)
                return self._open[host, port]
            except TimeoutError:
                last = _broken(
                    "socket",
                    "timeout",
                    f"{address} port {port}: no answer within {self.limits.connect:.0f} s.",
                )
            except ConnectionRefusedError:
                last = _broken("socket", "refused", f"{address} port {port} refused.")
            except ConnectionResetError:
                last = _broken("socket", "reset", f"{address} port {port} cut the line.")
            except OSError as error:
                last = _broken("socket", "unreachable", f"{address} port {port}: {error.strerror}.")
        assert last is not None
        raise last

    def secure(self, host: str, port: int) -> ssl.SSLSocket:
        """Secure the line opened by :meth:`reach`."""
        line = self._open[host, port].start_tls(self.context, host.strip("[]"))
        assert isinstance(line.sock, ssl.SSLSocket)
        return line.sock

    def wrap(self, line: LimitedStream, host: str) -> LimitedStream:
        """TLS over a line."""
        line.sock.settimeout(self.limits.connect)
        try:
            return LimitedStream(self.context.wrap_socket(line.sock, server_hostname=host), self)
        except ssl.SSLError as error:
            raise _broken(
                "tls",
                tls_code(error),
                getattr(error, "verify_message", "") or str(error.reason or error),
                CauseClass.TLS,
            ) from error
        except TimeoutError as error:
            raise _broken(
                "tls", "handshake_failure", "The TLS handshake did not end in time.", CauseClass.TLS
            ) from error
        except OSError as error:
            raise _broken("tls", "handshake_failure", str(error), CauseClass.TLS) from error

    # httpcore asks for lines through these two.

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[Any] | None = None,
    ) -> LimitedStream:
        """The line that stands ready for this host and port, else a new one."""
        return self._open.pop((host, port), None) or self._taken(host, port)

    def _taken(self, host: str, port: int) -> LimitedStream:
        line = self.reach(host, port)
        del self._open[host, port]
        return line

    def sleep(self, seconds: float) -> None:
        """Wait (httpcore's own retries are off)."""
        time.sleep(seconds)

    def begin(self) -> None:
        """One exchange on a line that was taken begins now; the time limit counts from here."""
        self.deadline = min(time.monotonic() + self.limits.total, self._last)
        self.unread = self.limits.head + self.limits.size

    @contextmanager
    def within(self, seconds: float) -> Iterator[None]:
        """One time limit for all exchanges meanwhile, and for the waits between them."""
        before, self._last = self._last, min(self._last, time.monotonic() + seconds)
        try:
            yield
        finally:
            self._last = before

    @property
    def left(self) -> float:
        """Seconds that are left of it; without end where there is none."""
        return self._last - time.monotonic()

    def take_line(self, host: str, port: int) -> LimitedStream:
        """The secured line to a host and port, for a protocol other than HTTP: the one that stands
        ready, else a new one.
        """
        self._check_cleared(origin_of("tls", host, port))
        self.begin()
        if (host, port) not in self._open:
            self.reach(host, port)
        return self._open[host, port].start_tls(self.context, host.strip("[]"))

    def pass_on(self, request: Request, content: bytes | None = None) -> StreamedReply:
        """Send a request and read the whole answer, as :meth:`send` does, without evidence of it.

        Raises :class:`TransportError`.
        """
        self._check_where_it_goes(request)
        self.begin()
        try:
            response, body = self._exchanged(request, content)
        except (httpcore.ProtocolError, httpx.InvalidURL, httpx.UnsupportedProtocol) as error:
            raise self._what_is_not_http(error) from error
        return StreamedReply(response.status_code, dict(response.headers.multi_items()), body)

    def _exchanged(self, request: Request, content: bytes | None) -> tuple[httpx.Response, bytes]:
        built = self._client.build_request(
            request.method,
            request.url,
            headers=list(request.headers),
            content=content if content is not None else request.body.encode() or None,
        )
        # An answer may begin with any number of interim ones (RFC 9110 §15.2), which are read and
        # thrown away.
        self.unread = self.limits.head
        response = self._client.send(built, stream=True)
        self.unread = self.limits.head + self.limits.size
        try:
            return response, self._read(response)
        finally:
            response.close()

    def send(
        self, request: Request, secrets: tuple[str, ...] = (), content: bytes | None = None
    ) -> HttpReply:
        """Send a request and read the whole answer.

        Redirects are reported, never followed. ``content`` is a body that is no text, in place of
        the request's.

        Raises :class:`TransportError`.
        """
        known = (*request.secrets, *secrets)
        self._check_where_it_goes(request)
        self.begin()
        begun = time.perf_counter()
        sent: dict[str, Any] = {
            "method": request.method,
            "url": mask_url(request.url, known),
            "request_headers": mask_headers(request.headers, known),
            "request_body": mask_body(
                request.body, dict(request.headers).get("Content-Type", ""), known
            )
            if request.body
            else "",
        }
        try:
            response, body = self._exchanged(request, content)
        except (httpcore.ProtocolError, httpx.InvalidURL, httpx.UnsupportedProtocol) as error:
            broken = self._what_is_not_http(error)
            broken.exchange = Exchange(
                **sent, status=None, ms=_since(begun), error=broken.failure.detail
            )
            raise broken from error
        except TransportError as broken:
            broken.exchange = Exchange(
                **sent,
                status=None,
                ms=_since(begun),
                error=broken.failure.detail or broken.failure.code,
            )
            raise
        text = body.decode(response.encoding or "utf-8", "replace")
        headers = [(name, value) for name, value in response.headers.multi_items()]
        exchange = Exchange(
            **sent,
            status=response.status_code,
            response_headers=mask_headers(headers, known),
            response_size=len(body),
            ms=_since(begun),
            response_body=mask_body(text, response.headers.get("content-type", ""), known),
        )
        return HttpReply(response.status_code, dict(headers), text, exchange, body)

    def _check_where_it_goes(self, request: Request) -> None:
        """Over TLS, or to this machine, with nothing in the address that would become a header; and
        with a secret only where it was cleared for.

        Every request with a secret leaves through here. Raises :class:`TransportError`.
        """
        try:
            there = httpx.URL(request.url)
        except httpx.InvalidURL as error:
            raise _broken(
                "setting",
                "address",
                f"It is not an address that can be called: {error}.",
                CauseClass.UNKNOWN,
            ) from error
        if there.userinfo or there.scheme not in ("http", "https") or not there.host:
            says = (
                "Addresses of https (on this machine http) are called, without a user name "
                "before @."
            )
            raise _broken("setting", "address", says, CauseClass.UNKNOWN)
        if (
            self.shows is not None
            or request.secrets
            or any(name.lower() in _BEARING for name, _ in request.headers)
        ):
            usual = 443 if there.scheme == "https" else 80
            self._check_cleared(
                origin_of(there.scheme, there.raw_host.decode("ascii"), there.port or usual)
            )
        if there.scheme == "http":
            self.check_is_here(there.host)

    def _check_cleared(self, place: str) -> None:
        if place not in self.goes_to:
            where = origins_in_words([place]) if place else "this address"
            raise _broken(
                "setting",
                "not_cleared",
                f"What is held is not cleared for {where}.",
                CauseClass.CREDENTIAL,
            )

    def check_is_here(self, host: str) -> None:
        """Raise :class:`TransportError` unless a host is this machine, whatever name it is
        called by: beyond, everybody on the way could read along.
        """
        if not are_of_this_machine(found := self.find(host)):
            raise _broken(
                "socket",
                "in_the_open",
                f"{host} is {found[0]}, and http: would carry everything there in the open.",
                CauseClass.UNKNOWN,
            )

    def _what_is_not_http(self, error: Exception) -> TransportError:
        """Many servers close the line, without an alert, when they do not take a client certificate
        (TLS 1.3 has the handshake end before).
        """
        if (
            self.shows is not None
            and isinstance(error, httpcore.RemoteProtocolError)
            and "without sending" in str(error)
        ):
            return _broken(
                "tls",
                "closed_on_certificate",
                "The line was closed without an answer, right after our certificate.",
                CauseClass.TLS,
            )
        return _broken("socket", "reset", f"What came back is not HTTP: {error}")

    def _read(self, response: httpx.Response) -> bytes:
        try:
            return unpacked(
                response.iter_raw(), response.headers.get("content-encoding", ""), self.limits.size
            )
        except TooLarge as error:
            raise _broken(
                "socket",
                "too_large",
                f"The answer is larger than {self.limits.size // 1024} KiB.",
                CauseClass.THEIRS,
            ) from error
        except BadCoding as error:
            raise _broken("socket", "coding", str(error), CauseClass.THEIRS) from error


def _since(begun: float) -> float:
    return round((time.perf_counter() - begun) * 1000, 2)


class _HttpxTransport(httpx.BaseTransport):
    """httpx over a httpcore pool of our own, whose errors pass through as they are."""

    def __init__(self, pool: httpcore.ConnectionPool) -> None:
        self.pool = pool

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        url = httpcore.URL(
            scheme=request.url.raw_scheme,
            host=request.url.raw_host,
            port=request.url.port,
            target=request.url.raw_path,
        )
        assert isinstance(request.stream, httpx.SyncByteStream)
        answer = self.pool.handle_request(
            httpcore.Request(
                request.method,
                url,
                headers=request.headers.raw,
                content=request.stream,
                extensions=request.extensions,
            )
        )
        assert isinstance(answer.stream, Iterable)
        return httpx.Response(
            answer.status,
            headers=answer.headers,
            stream=_Stream(answer.stream),
            extensions=answer.extensions,
        )

    def close(self) -> None:
        self.pool.close()


class _Stream(httpx.SyncByteStream):
    def __init__(self, parts: Iterable[bytes]) -> None:
        self.parts = parts

    def __iter__(self) -> Iterator[bytes]:
        yield from self.parts

    def close(self) -> None:
        if hasattr(self.parts, "close"):
            self.parts.close()
