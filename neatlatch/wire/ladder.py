"""The ladder: a test of a connection from the ground up, one rung at a time (DOMAIN §9).

It stops at the first rung that fails. What it sends is repeated only where that is safe, and
everything it sends and gets is kept, with secrets masked.
"""

from __future__ import annotations

import math
import ssl
import time
from collections.abc import Callable, Generator, Iterator
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from functools import partial
from typing import TypeVar

from neatlatch.core import oauth2, relaying, replies, retries, scopes
from neatlatch.core.addresses import joined_path, take_apart
from neatlatch.core.depth import Depth
from neatlatch.core.evidence import CauseClass, Exchange, Failure, Rung, RungResult
from neatlatch.core.probing import Piece
from neatlatch.core.profiles import Operation, first_harmless, readings
from neatlatch.core.sending import Credentials, NotComplete, with_credential

from .entries import entry_for
from .ladder_plan import (
    FurtherEndpoint,
    Leftover,
    Plan,
    RungFailed,
    RungRemark,
    SchemeEntry,
    TestStopped,
    nothing_to_try,
)
from .oauth import failure_of
from .pace import Paces
from .repeating import sending
from .token_source import TokenSource
from .transport import HttpReply, Transport, TransportError

_SLICE = 0.1
T = TypeVar("T")


@dataclass
class LadderRun:
    """One run of the ladder.

    ``chance`` gives random numbers in [0, 1) for the waits, ``nonce`` a text never used before,
    ``stop`` says whether to stop.
    """

    plan: Plan
    transport: Transport
    token_source: TokenSource
    now: Callable[[], datetime]
    chance: Callable[[], float]
    nonce: Callable[[], str]
    stop: Callable[[], bool] = lambda: False
    clock_skew: float | None = None
    exchanges: list[Exchange] = field(default_factory=list)
    facts: dict[str, object] = field(default_factory=dict)
    tries: int = 1
    _paces: Paces = field(default_factory=Paces)

    def __post_init__(self) -> None:
        self.entry: SchemeEntry = entry_for(self)

    def run(self) -> Iterator[RungResult | Leftover]:
        """Climb. Yields each rung as it ends. Raises :class:`TestStopped`."""
        for rung, test_rung in (
            (Rung.FIND, self._find),
            (Rung.REACH, self._reach),
            (Rung.SECURE, self._secure),
            (Rung.SIGN_IN, self._sign_in),
            (Rung.ALLOWED, self._allowed),
            (Rung.WORK, self._work),
        ):
            self.tries, self.exchanges, self.facts = 1, [], {}
            begun = time.perf_counter()
            try:
                said = yield from test_rung()
                yield self._result(rung, begun, says=said.says, skipped=said.skipped)
            except RungFailed as fell:
                yield self._result(rung, begun, failure=fell.failure)
                return
            except TransportError as error:
                if error.exchange is not None and error.exchange not in self.exchanges:
                    self.exchanges.append(error.exchange)
                yield self._result(rung, begun, failure=error.failure)
                return
            if rung is self.plan.last:
                return

    def _result(
        self,
        rung: Rung,
        begun: float,
        *,
        says: str = "",
        failure: Failure | None = None,
        skipped: bool = False,
    ) -> RungResult:
        ms = round((time.perf_counter() - begun) * 1000, 1)
        if failure is not None:
            # The standards' own codes are said as they stand; ours are only for the diagnosis. What
            # we found by ourselves was answered by nobody, and an error that comes back with a
            # person has no status.
            answered = failure.status is not None or failure.kind == "authorize"
            standard = (
                answered
                and failure.kind in ("token", "authorize", "resource")
                and failure.code
                not in (
                    "refused_without_return",
                    "no_sign_in_page",
                    "redirect",
                )
            )
            said = (
                f"{failure.code} · {failure.detail}"
                if standard and not failure.code.startswith("status_")
                else failure.detail or failure.code
            )
            says = said.strip(" ·").replace("_", " ") if not standard else said.strip(" ·")
        return RungResult(
            rung,
            failure is None,
            says,
            ms,
            self.tries,
            dict(self.facts),
            tuple(self.exchanges),
            failure,
            skipped,
        )

    # Find, reach, secure

    def _origins(self) -> list[tuple[str, str, int]]:
        """Scheme, host and port of everything that is called, each once."""
        found = []
        for address in (
            *self.entry.addresses(),
            *(other.base for other in self.plan.further),
        ):
            parts = take_apart(address)
            if (
                not parts.host
                or parts.scheme not in ("http", "https", "tls")
                or not (parts.effective_port or "").isdigit()
            ):
                raise RungFailed(
                    Failure(
                        "setting",
                        "address",
                        CauseClass.UNKNOWN,
                        f"“{address.removeprefix('tls://')}” is not an address that can be called.",
                    )
                )
            place = (parts.scheme, parts.host, int(parts.effective_port or 0))
            if place not in found:
                found.append(place)
        return found

    def _find(self) -> Generator[Leftover, None, RungRemark]:
        yield from ()
        words = []
        for host in dict.fromkeys(host for _, host, _ in self._origins()):
            addresses = self._with_retries(partial(self.transport.find, host))
            words.append(f"{host} → {addresses[0]}")
            self.facts[host] = addresses
        return RungRemark("; ".join(words))

    def _reach(self) -> Generator[Leftover, None, RungRemark]:
        yield from ()
        for _, host, port in self._origins():
            self._with_retries(partial(self.transport.reach, host, port))
        return RungRemark(", ".join(f"TCP {port}" for _, _, port in self._origins()) + " direct")

    def _secure(self) -> Generator[Leftover, None, RungRemark]:
        yield from ()
        words = []
        for scheme, host, port in self._origins():
            if scheme == "http":
                self.transport.check_is_here(host)
                words.append(f"{host}: no TLS, on this machine only")
                continue
            sock = self.transport.secure(host, port)
            certificate = sock.getpeercert() or {}
            ends = datetime.fromtimestamp(
                ssl.cert_time_to_seconds(str(certificate["notAfter"])), UTC
            )
            days = (ends - self.now()).days
            self.facts[f"{host}:{port}"] = {
                "version": sock.version(),
                "certificate_ends": ends.isoformat(),
            }
            words.append(
                f"{(sock.version() or '').replace('v', ' ', 1)} · certificate good for {days} days"
            )
        return RungRemark("; ".join(dict.fromkeys(words)))

    # Calls

    def pause(self, seconds: float) -> None:
        """Wait, unless somebody stops the test meanwhile. Raises :class:`TestStopped`."""
        until = time.monotonic() + seconds
        while True:
            if self.stop():
                raise TestStopped
            left = until - time.monotonic()
            if left <= 0:
                return
            time.sleep(min(_SLICE, left))

    def _with_retries(self, act: Callable[[], T]) -> T:
        """Something that sends nothing, tried up to three times."""
        for tries in range(1, retries.MOST_TRIES + 1):
            self.pause(0)
            try:
                return act()
            except TransportError as error:
                final = (
                    error.failure.code in ("no_such_name", "forbidden_address")
                    or tries == retries.MOST_TRIES
                )
                self.tries = max(self.tries, tries)
                if final:
                    raise
                self.pause(retries.wait_before(tries, None, self.chance()) or 0)
        raise AssertionError("unreachable")

    def send(self, request: oauth2.Request, *, safe: bool = False) -> HttpReply:
        """Send, and repeat what may be repeated, all within one time limit.

        Every try is kept as evidence.
        """
        with self.transport.within(self.transport.limits.total):
            return self._send(request, safe)

    def _send(self, request: oauth2.Request, safe: bool) -> HttpReply:
        secrets, tries = self.entry.secrets(), 0

        def send() -> HttpReply:
            nonlocal tries
            tries += 1
            self.tries = max(self.tries, tries)
            try:
                answer = self.transport.send(request, secrets)
            except TransportError as error:
                if error.exchange is not None:
                    self.exchanges.append(error.exchange)
                raise
            self.exchanges.append(answer.exchange)
            self._record_clock(answer)
            return answer

        steps = sending(
            self.transport,
            request.method,
            send,
            take=self._take,
            now=self.now,
            chance=self.chance,
            safe_anyway=safe,
            spread_of=self._spread_of,
        )
        while True:
            try:
                wait = next(steps)
            except StopIteration as end:
                answer: HttpReply = end.value
                return answer
            self.pause(wait)

    def _spread_of(self, answer: HttpReply) -> float | None:
        unknown_yet = answer.status == 403 or answer.status == 401 and self.entry.shows_secret
        return self.plan.spread if self.plan.fresh and unknown_yet else None

    def wait_to_spread(self) -> bool:
        """After a refusal that may only mean that a new credential is not known there yet: wait,
        and count one more try; ``False``: it is refused. Raises :class:`TestStopped`.
        """
        spread = self.plan.spread if self.plan.fresh else None
        left, refused = self.transport.left, 401
        wait = retries.next_wait("POST", refused, self.tries, chance=0, left=left, spread=spread)
        if wait is None:
            return False
        self.tries += 1
        self.pause(wait)
        return True

    def _take(self) -> float:
        """Take one call out of the connection's pace; returns the seconds to wait for it. Raises
        :class:`TestStopped`."""
        self.pause(0)
        wait, _ = self._paces.take({"connection": self.plan.pace}, time.monotonic(), math.inf)
        return wait

    def _record_clock(self, answer: HttpReply) -> None:
        if self.clock_skew is None and (date := replies.header(answer.headers, "Date")):
            try:
                self.clock_skew = (parsedate_to_datetime(date) - self.now()).total_seconds()
            except (ValueError, TypeError):
                return

    # Signing in

    def _sign_in(self) -> Generator[Leftover, None, RungRemark]:
        yield from ()
        says = self.entry.sign_in()
        further = [self._sign_in_further(other) for other in self.plan.further]
        return RungRemark(" · ".join([says, *further]))

    def _sign_in_further(self, further: FurtherEndpoint) -> str:
        answer = self.send(
            self.with_credential(
                oauth2.api_request("GET", joined_path(further.base, further.harmless)), further.held
            )
        )
        if answer.status >= 400:
            failure = failure_of(
                replies.read("resource", answer.status, answer.headers, answer.text, self.now()),
                "resource",
                answer.status,
            )
            raise RungFailed(
                replace(
                    failure,
                    detail=f"{further.label}: {failure.detail or failure.code}",
                    scheme=further.held.kind,
                )
            )
        return f"{further.label} answered {answer.status}"

    def with_credential(self, request: oauth2.Request, held: Credentials) -> oauth2.Request:
        """A request with a credential that is sent with every call."""
        try:
            return with_credential(request, held, self.nonce(), int(self.now().timestamp()))
        except NotComplete as error:
            raise RungFailed(
                Failure("setting", "not_complete", CauseClass.CREDENTIAL, str(error))
            ) from error

    # Rights and work

    def call(self, method: str, path: str, body: dict[str, object] | None = None) -> HttpReply:
        """Call an operation, signed in.

        A token that ended before its time is renewed once, as the relay does.
        """
        address = path if "://" in path else joined_path(self.plan.api_base, path)
        answer = self.send(self.entry.request(method, address, body))
        if (
            answer.status == 401
            and relaying.may_repeat_after_renewal(method, ())
            and self.entry.renew()
        ):
            self.facts["renewed"] = True
            answer = self.send(self.entry.request(method, address, body))
        return answer

    def check(self, answer: HttpReply, operation: str) -> None:
        if 300 <= answer.status < 400:
            raise RungFailed(
                Failure(
                    "resource",
                    "redirect",
                    CauseClass.ROUTE,
                    f"{operation} was sent on to {answer.headers.get('location', 'nowhere')}.",
                    answer.status,
                )
            )
        if answer.status >= 400:
            reading = replies.read(
                "resource", answer.status, answer.headers, answer.text, self.now()
            )
            raise RungFailed(failure_of(reading, "resource", answer.status))

    def _allowed(self) -> Generator[Leftover, None, RungRemark]:
        yield from ()
        plan, held = self.plan, self.entry.granted()
        for operation in plan.needed:
            if held is not None and (
                gap := scopes.lacking(held, operation.alternatives, plan.implies)
            ):
                raise RungFailed(
                    Failure(
                        "resource",
                        "insufficient_scope",
                        CauseClass.RIGHT,
                        f"{operation.name} needs {scopes.joined(gap)}, which {self.entry.lacks}.",
                        scopes=tuple(sorted(gap)),
                    )
                )
        if (said := self.entry.allowed()) is not None:
            return said
        if not plan.depth.tries(Rung.ALLOWED):
            return nothing_to_try("nothing was called in a person's name")
        harmless = first_harmless(plan.harmless, plan.operations, self._may)
        if harmless is None:
            return nothing_to_try("no harmless call is described for this application")
        answer = self.call("GET", harmless.path)
        self.check(answer, harmless.name)
        renewed = (
            " with a renewed token, for the one before was refused"
            if self.facts.get("renewed")
            else ""
        )
        return RungRemark(f"{harmless.name} answered {answer.status}{renewed}")

    def _may(self, operation: Operation) -> bool:
        """Whether what was granted allows an operation; where nothing is known of rights, it is
        tried.
        """
        held = self.entry.granted()
        return held is None or scopes.allows(held, operation.alternatives, self.plan.implies)

    def _work(self) -> Generator[Leftover, None, RungRemark]:
        plan, probe = self.plan, self.plan.probe
        if not plan.depth.tries(Rung.WORK):
            said = (
                "nothing was done in a person's name"
                if plan.depth is Depth.SIGN_IN
                else "only a test that a person begins does real work here"
            )
            return self.entry.worked() or nothing_to_try(said)
        if probe is None:
            return (yield from self._read_only_work())
        piece = Piece(probe, plan.mark)
        if not piece.may_be_made(plan.operations, self._may):
            return (yield from self._read_only_work())
        yield self._leftover(piece)
        try:
            made = self.call(probe.make_method, piece.path(probe.make_path), piece.body())
        except (TransportError, TestStopped) as error:
            if isinstance(error, TestStopped) or error.never_sent:
                yield self._leftover(replace(piece, gone=True))
            raise
        if 400 <= made.status < 500:
            yield self._leftover(replace(piece, gone=True))  # it said itself that it made nothing
        self._check_work(made, f"{probe.make_method} {probe.make_path}")
        piece = piece.answered(made.headers, made.text)
        yield self._leftover(piece)
        if not piece.can_be_cleared:
            says = (
                f"{piece.name} was made, and the answer has no ID at {probe.id_at}: it is left "
                f"behind."
            )
            raise RungFailed(Failure("work", "no_id", CauseClass.UNKNOWN, says))
        if probe.look_path:
            if not self._shows(piece):
                says = f"{piece.name} was made, yet GET {probe.look_path} does not show it."
                raise RungFailed(Failure("work", "not_there", CauseClass.THEIRS, says))
            piece = replace(piece, seen=True)
            yield self._leftover(piece)
        return (yield from self._clear(piece))

    def _shows(self, piece: Piece) -> bool:
        look = self.call("GET", piece.path(piece.probe.look_path))
        self._check_work(look, f"GET {piece.probe.look_path}")
        return piece.shown_by(look.text)

    def _clear(self, piece: Piece) -> Generator[Leftover, None, RungRemark]:
        """Clear away what was made.

        “Not there” is believed only of what was seen before and is seen no more.
        """
        probe, operation = piece.probe, f"{piece.probe.clear_method} {piece.probe.clear_path}"
        cleared = self.call(probe.clear_method, piece.path(probe.clear_path))
        not_found = cleared.status in (404, 410)
        if not not_found:
            if cleared.status >= 300:
                yield self._leftover(piece, cleared.status)
            self._check_work(cleared, operation)
        elif not piece.seen or self._still_there(piece):
            yield self._leftover(piece, cleared.status)
            says = (
                f"{piece.name} was made; {operation} answered {cleared.status}, so it is left "
                f"behind."
            )
            raise RungFailed(Failure("work", "left_behind", CauseClass.UNKNOWN, says))
        yield self._leftover(replace(piece, gone=True))
        return RungRemark(piece.report(not_found))

    def _still_there(self, piece: Piece) -> bool:
        look = self.call("GET", piece.path(piece.probe.look_path))
        if look.status in (404, 410) and "{id}" in piece.probe.look_path:
            return False
        self._check_work(look, f"GET {piece.probe.look_path}")
        return piece.shown_by(look.text)

    def _leftover(self, piece: Piece, status: int | None = None) -> Leftover:
        address = joined_path(self.plan.api_base, piece.path(piece.probe.clear_path))
        return Leftover(piece, address if piece.can_be_cleared else "", status)

    def _read_only_work(self) -> Generator[Leftover, None, RungRemark]:
        """Where nothing may be made: every reading operation that the granted scopes allow."""
        yield from ()
        if (said := self.entry.worked()) is not None:
            return said
        done = []
        for operation in readings(self.plan.operations, self._may):
            answer = self.call("GET", operation.path)
            self._check_work(answer, operation.name)
            done.append(operation.name)
        if not done:
            return nothing_to_try("no piece of real work is described for these scopes")
        return RungRemark(f"read only: {', '.join(done)}")

    def _check_work(self, answer: HttpReply, operation: str) -> None:
        if answer.status in (400, 404, 405, 409, 415, 422):
            # The application wants more, or something else, than was sent: a test that passes does
            # not mean that the work passes.
            raise RungFailed(
                Failure(
                    "work",
                    f"status_{answer.status}",
                    CauseClass.UNKNOWN,
                    f"{operation} answered {answer.status}: {answer.text[:200]}",
                    answer.status,
                )
            )
        self.check(answer, operation)
