"""Where workloads of connections knock: ``/draw`` and ``/relay``.

They come with a key of their own and no session, and are answered in plain JSON.

The work runs in a pool of its own: however many ask at once, no more than its hands hold database
connections and wait for a renewal, and the others queue without holding anything.
"""

from __future__ import annotations

import asyncio
import base64
import binascii
import contextlib
import functools
import json
import re
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from urllib.parse import quote, unquote
from uuid import UUID
from weakref import WeakValueDictionary

import structlog
from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.utils import timezone
from django.views.decorators.csrf import csrf_exempt

from neatlatch.core import relaying
from neatlatch.core.authority.refusing import RequestRefused
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.authority.house.own import DRAW, RELAY
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Use
from neatlatch.desk.ground.common import bodies, fast_path, problems, proxies, shares
from neatlatch.desk.ground.common.actors import Program
from neatlatch.desk.ground.common.asgi import Scope
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.common.safe import CannotOpen
from neatlatch.desk.work.drawing import quick, services, signed_calls
from neatlatch.desk.work.drawing import relay as relay_service
from neatlatch.desk.work.drawing.ledger import LEDGER, DrawFact
from neatlatch.desk.work.rounds import services as rounds

log = structlog.get_logger()
LARGEST_BODY = 2 * 1024 * 1024
# A signed call that is checked: in JSON, its body in Base64.
LARGEST_CALL = 4 * 1024 * 1024
_MOST_FIELDS, _LONGEST_FIELD = 200, 8192
_NAME = re.compile(r"[a-z0-9-]{1,80}")
_REFUSED = {
    "type": "about:blank",
    "code": "credential-refused",
    "title": "Your key does not let you in.",
    "status": 401,
    "detail": "Look whether it is whole, and ask its administrator.",
}


# Where the TLS listener puts the certificate that it was shown.
EXTENSION = "neatlatch.client_certificate"


def shown_certificate(request: HttpRequest) -> bytes | None:
    """The client certificate in DER: proven by our own TLS listener, or by the proxy in front of
    us, which then tells it by ``Client-Cert`` (RFC 9440 §2.2).
    """
    scope = getattr(request, "scope", {})
    proven = scope.get("extensions", {}).get(EXTENSION)
    told = (
        request.headers.get("Client-Cert", "")
        if settings.PROXY_TELLS_CERTIFICATE and proxies.has_proven(request)
        else ""
    )
    if proven is None and len(told) > 2 and told[0] == told[-1] == ":":
        with contextlib.suppress(binascii.Error, ValueError):
            proven = base64.b64decode(told[1:-1], validate=True)
    return bytes(proven) if proven else None


_SHARES = shares.Shares()
Work = Callable[..., shares.Steps[HttpResponse]]


def _async_endpoint(name: str) -> Callable[[Work], Callable[..., Any]]:
    """An async view around work in steps that is not: refusals become problem details, and what was
    really wrong goes to the log.
    """

    def wrap(work: Work) -> Callable[..., Any]:
        def run(request: HttpRequest, **rest: Any) -> shares.Steps[HttpResponse]:
            address = str(request.META.get("REMOTE_ADDR", ""))
            try:
                asker = services.caller(
                    request.headers.get("Authorization", ""),
                    address,
                    timezone.now(),
                    shown_certificate(request),
                    unquote(request.headers.get("Neatlatch-Workload", "")),
                )
                answer = yield from work(request, asker, **rest)
            except RequestRefused as refused:
                client = issuing.client_of(refused)
                where = client.deployment.environment if client else Environment.objects.first()
                if where is not None:
                    issuing.keep_rejected(where, name, refused.logged, client, "", address)
                answer = JsonResponse(_REFUSED, status=401, content_type="application/problem+json")
                answer["WWW-Authenticate"] = 'Bearer realm="neat latch"'
            except Problem as problem:
                answer = problems.answer(problem)
            except CannotOpen as error:
                answer = problems.answer(
                    Problem(
                        503,
                        "A sealed value does not open.",
                        str(error),
                        code="sealed-value-does-not-open",
                    )
                )
            if "Cache-Control" not in answer:
                answer["Cache-Control"] = "no-store"
            return answer

        @functools.wraps(work)
        async def view(request: HttpRequest, **rest: Any) -> HttpResponse:
            return await _SHARES.run(fast_path.POOL, run(request, **rest))

        return csrf_exempt(view)

    return wrap


def _share(asker: services.WorkloadCaller, connection: Connection) -> shares.Share:
    return shares.Share((("connection", connection.pk), ("workload", asker.workload.pk)))


def _get(request: HttpRequest) -> None:
    if request.method != "GET":
        raise Problem(405, "Ask with GET.", code="method-not-allowed")


@_async_endpoint("list")
def mine(request: HttpRequest, asker: services.WorkloadCaller) -> shares.Steps[HttpResponse]:
    """The connections that the asker uses."""
    yield shares.Share((("workload", asker.workload.pk),))
    _get(request)
    uses = (
        Use.objects.select_related("connection__deployment__application")
        .filter(workload=asker.workload)
        .exclude(connection=None)
        .order_by("connection__ref")
    )
    rows = [
        {
            "name": use.connection.name,
            "ref": use.connection.ref,
            "application": use.connection.deployment.application.name,
            "state": use.connection.state,
            "operations": use.operations,
        }
        for use in uses
        if use.connection
    ]
    return JsonResponse(
        {
            "workload": asker.workload.name,
            "environment": asker.workload.environment.key,
            "connections": rows,
        }
    )


def _answer(
    ref: str,
    accept: str,
    base: str,
    headers: dict[str, str],
    query: dict[str, str],
    ends: datetime | None,
) -> tuple[str, str]:
    """A draw as it is answered: its content type and the text."""
    if "text/plain" in accept:
        return "text/plain; charset=utf-8", "".join(
            f"{name}: {value}\n" for name, value in headers.items()
        )
    seconds = int((ends - timezone.now()).total_seconds()) if ends else None
    told = {
        "ref": ref,
        "base": base,
        "headers": headers,
        "query": query,
        "ends": ends.isoformat() if ends else None,
        "seconds": seconds,
    }
    return "application/json", json.dumps(told)


@dataclass(frozen=True)
class _DrawRequest:
    """A draw that is asked for, as it came."""

    name: str
    headers: dict[str, str] = field(repr=False)
    address: str


def _ready(asks: Sequence[_DrawRequest]) -> list[tuple[str, str] | None]:
    """Those that are in order, answered; their facts are on disk before anybody has a header.

    ``None``: the long way says what is wrong, or renews.
    """
    now = timezone.now()
    found = [
        fast_path.or_none(
            quick.draw,
            ask.headers.get("authorization", ""),
            ask.name,
            DRAW,
            ask.address,
            now,
        )
        for ask in asks
    ]
    if facts := [
        DrawFact(ready.workload, ready.connection, ready.credential, DRAW)
        for ready in found
        if ready
    ]:
        LEDGER.record(facts, now)
    return [
        _answer(
            one.ref,
            ask.headers.get("accept", ""),
            one.base,
            {"Authorization": one.header},
            {},
            one.ends,
        )
        if one
        else None
        for ask, one in zip(asks, found, strict=True)
    ]


_BATCHES = fast_path.BatchedCalls(_ready)


async def _fast_draw(scope: Scope, send: Any, name: str) -> bool:
    found = await _BATCHES.call(
        _DrawRequest(name, fast_path.headers_of(scope), fast_path.address_of(scope))
    )
    if found is not None:
        await fast_path.answer(send, *found)
    return found is not None


# A thousand that ask at the moment of a renewal wait for it here, and not each in the whole of
# Django. As many as this go the long way of one connection at once.
_LONG_WAY = 4
_turns: WeakValueDictionary[str, asyncio.Semaphore] = WeakValueDictionary()


async def usual(scope: Scope, send: Any, long_way: Callable[[], Awaitable[None]]) -> None:
    """Answer the usual draw before the whole of Django is gone through, which would cost ten times
    the draw; else by the long way. Anyone who had to wait for a turn there looks first whether it
    has become the usual case: most have, for the token that all of them waited for is there.
    """
    name = str(scope["path"]).removeprefix("/draw/")
    if scope["method"] != "GET" or not _NAME.fullmatch(name) or scope.get("query_string"):
        await long_way()
    elif not await _fast_draw(scope, send, name):
        turn = _turns.setdefault(name, asyncio.Semaphore(_LONG_WAY))
        waits = turn.locked()
        async with turn:
            if not waits or not await _fast_draw(scope, send, name):
                await long_way()


@_async_endpoint("draw")
def draw(
    request: HttpRequest, asker: services.WorkloadCaller, name: str
) -> shares.Steps[HttpResponse]:
    """A ready header for a connection. With ``Accept: text/plain``, as header lines.

    A job whose header was refused draws again with ``refused``, the digest of its value.
    """
    _get(request)
    connection = services.connection_of(asker, name, DRAW)
    yield _share(asker, connection)
    yield from services.until_renewed(connection)
    try:
        drawn = services.draw(
            asker.workload,
            connection,
            request.GET.get("method", "GET").upper()[:20],
            request.GET.get("url", ""),
            request.GET.get("refused", ""),
        )
    except Problem as problem:
        if problem.status == 503:
            services.record_draw(asker, connection, "", DRAW, failed=True)
        raise
    services.record_draw(asker, connection, drawn.credential, DRAW)
    kind, text = _answer(
        connection.ref,
        request.headers.get("Accept", ""),
        drawn.base,
        drawn.headers,
        drawn.query,
        drawn.ends,
    )
    return HttpResponse(text, content_type=kind)


@_async_endpoint("draw")
def with_environment(
    request: HttpRequest, asker: services.WorkloadCaller, environment: str, name: str
) -> shares.Steps[HttpResponse]:
    """A workload draws in its own environment, and by the name alone."""
    yield shares.Share((("workload", asker.workload.pk),))
    raise Problem(
        404,
        "A draw names a connection without its environment.",
        f"Your key belongs to {asker.workload.environment.name}, and you draw there. Write {name} "
        f"in place of {environment}/{name}.",
        code="draw-needs-bare-name",
    )


@_async_endpoint("test")
def test(
    request: HttpRequest, asker: services.WorkloadCaller, name: str
) -> shares.Steps[HttpResponse]:
    """Test a connection that the asker uses, and wait for what comes of it."""
    if request.method != "POST":
        raise Problem(405, "Ask with POST.", code="method-not-allowed")
    connection = services.connection_of(asker, name, DRAW)
    yield _share(asker, connection)
    done = rounds.run(rounds.begin_test(Program(asker.workload.name), connection, by_program=True))
    rungs = [
        {
            "rung": rung["rung"],
            "passed": rung["passed"],
            "skipped": rung["skipped"],
            "says": rung["says"],
        }
        for rung in done.rungs
    ]
    return JsonResponse(
        {
            "ref": connection.ref,
            "passed": bool(done.passed),
            "rungs": rungs,
            "causes": [cause["says"] for cause in (done.diagnosis or {}).get("causes", [])],
        }
    )


@_async_endpoint("check")
def check_call(
    request: HttpRequest, asker: services.WorkloadCaller, name: str
) -> shares.Steps[HttpResponse]:
    """Say whether a call that the asker received was signed by the application."""
    if request.method != "POST":
        raise Problem(405, "Ask with POST.", code="method-not-allowed")
    connection = services.used_connection(asker, name)
    headers, body = _call_of(request)
    yield _share(asker, connection)
    accepted = signed_calls.check(asker, connection, headers, body)
    return JsonResponse(
        {
            "ref": connection.ref,
            "id": accepted.id,
            "sent_at": accepted.sent_at.isoformat() if accepted.sent_at else None,
            "seen_at": accepted.seen_at.isoformat() if accepted.seen_at else None,
        }
    )


def _call_of(request: HttpRequest) -> tuple[dict[str, str], bytes]:
    """A call that is to be checked: its header fields, and its body, which came in Base64. Raises
    :class:`Problem`.
    """
    data = bodies.of(request, LARGEST_CALL)
    if data is None:
        raise Problem(
            413,
            "The call is too large.",
            f"More than {LARGEST_CALL // 2**20} MiB, in Base64, is not checked.",
            code="too-large",
        )
    try:
        told = json.loads(data)
        headers, body = told["headers"], base64.b64decode(told["body"], validate=True)
        fits = len(headers) <= _MOST_FIELDS and all(
            isinstance(value, str) and len(value) <= _LONGEST_FIELD for value in headers.values()
        )
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        raise _no_call() from error
    if not fits:
        raise _no_call()
    return dict(headers), body


def _no_call() -> Problem:
    return Problem(
        422,
        "This is no call that can be checked.",
        "Send its header fields as an object “headers”, and its body as it came, in Base64, as "
        f"“body”. At most {_MOST_FIELDS} fields of {_LONGEST_FIELD} characters are read.",
        code="bad-signed-call",
    )


def _as_sent(scope: Scope, name: str, path: str) -> str:
    """The path with its escapes as they were sent: an escaped slash is not a slash.

    Where the server does not tell, it is escaped anew.
    """
    raw = bytes(scope.get("raw_path") or b"").decode("latin-1").partition("?")[0]
    start = f"/relay/{name}"
    if not raw.startswith(start):
        return quote(path, safe="/~!$&'()*+,;=:@-._")
    rest = raw.removeprefix(start)
    return rest[1:] if len(rest) > 1 else rest


# What an application answers is shown by nobody's browser as a page of this address, and kept by
# nobody on the way.
_OF_AN_ANSWER = {
    "Content-Security-Policy": "sandbox; default-src 'none'",
    "Cache-Control": "private, no-store",
}


def _headers_of(back: relay_service.RelayReply) -> list[tuple[str, str]]:
    return [*back.headers, ("Neat-Latch-Tries", str(back.tries)), *_OF_AN_ANSWER.items()]


_RELAYED = re.compile(r"/relay/([a-z0-9-]{1,80})(/.*)?", re.DOTALL)


class _SlowPath(Exception):
    """The long way is to answer; nothing was sent."""


async def usual_relay(
    scope: Scope, receive: Any, send: Any, long_way: Callable[[Any], Awaitable[None]]
) -> None:
    """Relay what is in order before the whole of Django is gone through, which would cost five
    times as much; else by the long way, which is given a ``receive`` of its own.
    """
    fits = _RELAYED.fullmatch(str(scope["path"]))
    if fits is None or scope["method"] not in relaying.METHODS or not scope.get("raw_path"):
        await long_way(receive)
        return
    body, again = await fast_path.read(receive)
    if body is None:
        await long_way(again)
        return
    try:
        status, headers, content = await _SHARES.run(
            fast_path.POOL, _relayed_quickly(scope, fits[1], body)
        )
    except _SlowPath:
        await long_way(again)
    except Problem as problem:
        await _refuse(send, problem)
    except Exception:
        # The application may have had the request: the long way would send it once more.
        log.exception("a request could not be relayed")
        await _refuse(send, problems.broken())
    else:
        await fast_path.reply(send, status, headers, content)


async def _refuse(send: Any, problem: Problem) -> None:
    answer = problems.answer(problem)
    await fast_path.reply(
        send, answer.status_code, [*answer.items(), ("Cache-Control", "no-store")], answer.content
    )


Answered = tuple[int, list[tuple[str, str]], bytes]


def _relayed_quickly(scope: Scope, name: str, body: bytes) -> shares.Steps[Answered]:
    headers, address, now = fast_path.headers_of(scope), fast_path.address_of(scope), timezone.now()
    ready = fast_path.or_none(
        quick.draw, headers.get("authorization", ""), name, RELAY, address, now
    )
    if ready is None:
        raise _SlowPath
    try:
        url = relaying.target(
            ready.base,
            _as_sent(scope, name, ""),
            bytes(scope.get("query_string") or b"").decode("latin-1"),
        )
    except relaying.BadPath as error:
        raise _SlowPath from error
    yield shares.Share((("connection", UUID(ready.connection)), ("workload", UUID(ready.workload))))
    asked = relay_service.RelayRequest(
        scope["method"], url, tuple(headers.items()), body, ready.own_pace, UUID(ready.client)
    )
    failed = True
    try:
        back = yield from relay_service.quickly(name, ready, asked)
        failed = back.status in (401, 407) or back.status >= 500
    finally:
        LEDGER.record(
            [DrawFact(ready.workload, ready.connection, ready.credential, RELAY, failed)],
            timezone.now(),
        )
    return back.status, _headers_of(back), back.body


@_async_endpoint("relay")
def relay(
    request: HttpRequest, asker: services.WorkloadCaller, name: str, path: str = ""
) -> shares.Steps[HttpResponse]:
    """Send a request through a connection; without a path, to its API base address itself."""
    connection = services.connection_of(asker, name, RELAY)
    method, body = str(request.method), bodies.of(request, LARGEST_BODY)
    if method not in relaying.METHODS:
        raise Problem(
            405,
            "This method is not relayed.",
            f"These are: {', '.join(relaying.METHODS)}.",
            code="method-not-relayed",
        )
    if body is None:
        raise Problem(
            413,
            "The body is too large.",
            f"More than {LARGEST_BODY // 2**20} MiB is not relayed.",
            code="too-large",
        )
    try:
        url = relaying.target(
            connection.values.get("api_base", ""),
            _as_sent(getattr(request, "scope", {}), name, path),
            request.META.get("QUERY_STRING", ""),
        )
    except relaying.BadPath as error:
        raise Problem(
            422, "This address cannot be relayed to.", str(error), code="bad-relay-address"
        ) from error
    asked = relay_service.RelayRequest(
        method, url, tuple(request.headers.items()), body, asker.client.pace, asker.client.pk
    )
    secret = services.secret_of(connection)
    yield _share(asker, connection)
    failed = True
    try:
        back = yield from relay_service.Relay(connection, asked).steps()
        failed = back.status in (401, 407) or back.status >= 500
    finally:
        services.record_draw(asker, connection, secret, RELAY, failed)
    answer = HttpResponse(back.body, status=back.status)
    del answer["Content-Type"]
    for name, value in _headers_of(back):
        answer[name] = value
    return answer
