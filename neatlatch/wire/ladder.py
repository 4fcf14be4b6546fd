"""The ladder: a test of a connection from the ground up, one rung at a time (DOMAIN §9).

It stops at the first rung that fails. What it sends is repeated only where that is safe, and everything it sends and gets is kept,
with secrets masked.
"""

from __future__ import annotations

import ssl
import time
from collections.abc import Callable, Generator, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from functools import partial
from typing import Protocol, TypeVar

from neatlatch.core import oauth2, pkce, replies, retries, scopes
from neatlatch.core.addresses import take_apart
from neatlatch.core.evidence import CauseClass, Exchange, Failure, Rung, RungResult
from neatlatch.core.profiles import CODE, Operation, Probe

from .oauth import failure_of, would_take
from .road import Answer, Road, RoadError

# The probe of the authorization endpoint never leads to a sign-in, so its verifier protects nothing.
_PROBE_CHALLENGE = pkce.challenge("a-probe-never-comes-back-so-this-needs-no-secret")
_SLICE = 0.1
T = TypeVar("T")


@dataclass(frozen=True)
class Held:
    """A token to send. ``account``: who signed in, where that is known."""

    access_token: str
    granted: frozenset[str]
    ends: datetime | None = None
    renewed: bool = False

    def __repr__(self) -> str:
        return f"Held(•••, {sorted(self.granted)}, {self.ends})"


class NoToken(Exception):
    """There is no token to be had; ``failure`` says why."""

    def __init__(self, failure: Failure, exchanges: Sequence[Exchange] = ()) -> None:
        super().__init__(failure.code)
        self.failure, self.exchanges = failure, tuple(exchanges)


class Keeper(Protocol):
    """Whoever keeps the tokens: gives the one held, renewed if it is near its end or ``force`` says so. Raises :class:`NoToken`."""

    def token(self, road: Road, force: bool) -> tuple[Held, tuple[Exchange, ...]]: ...

    def told_account(self, account: str) -> None:
        """The provider said whose token it is."""


@dataclass(frozen=True)
class Plan:
    """Everything a test needs, as plain values. ``mark`` names what the test makes; ``fresh`` says that the credential is newer than the
    provider's spreading time, so that a refusal is tried again; ``pace`` is the most calls a second."""

    scheme: str
    token_endpoint: str
    api_base: str
    client: oauth2.Client
    mark: str
    authorization_endpoint: str = ""
    introspection_endpoint: str = ""
    redirect_uri: str = ""
    scopes: frozenset[str] = frozenset()
    implies: dict[str, tuple[str, ...]] = field(default_factory=dict)
    harmless: Operation | None = None
    operations: tuple[Operation, ...] = ()
    needed: tuple[Operation, ...] = ()
    probe: Probe | None = None
    fresh: bool = False
    pace: float = 10.0


@dataclass(frozen=True)
class Leftover:
    """Said just before a test makes something, and again when that is cleared away: how to clear it."""

    method: str
    address: str
    cleared: bool


class Stopped(Exception):
    """Somebody stopped the test."""


class _Fell(Exception):
    """This rung failed."""

    def __init__(self, failure: Failure) -> None:
        super().__init__(failure.code)
        self.failure = failure


@dataclass
class Climb:
    """One climb of the ladder. ``chance`` gives random numbers in [0, 1) for the waits, ``stop`` says whether to stop."""

    plan: Plan
    road: Road
    keeper: Keeper
    now: Callable[[], datetime]
    chance: Callable[[], float]
    stop: Callable[[], bool] = lambda: False
    clock_skew: float | None = None
    _tries: int = 1
    _exchanges: list[Exchange] = field(default_factory=list)
    _facts: dict[str, object] = field(default_factory=dict)
    _held: Held | None = None
    _bucket: retries.Bucket | None = None

    def run(self) -> Iterator[RungResult | Leftover]:
        """Climb. Yields each rung as it ends. Raises :class:`Stopped`."""
        for rung, climb in ((Rung.FIND, self._find), (Rung.REACH, self._reach), (Rung.SECURE, self._secure), (Rung.SIGN_IN, self._sign_in),
                            (Rung.ALLOWED, self._allowed), (Rung.WORK, self._work)):  # fmt: skip
            self._tries, self._exchanges, self._facts = 1, [], {}
            begun = time.perf_counter()
            try:
                says = yield from climb()
                yield self._result(rung, begun, says=says.removeprefix("—"), skipped=says.startswith("—"))
            except _Fell as fell:
                yield self._result(rung, begun, failure=fell.failure)
                return
            except RoadError as error:
                if error.exchange is not None and error.exchange not in self._exchanges:
                    self._exchanges.append(error.exchange)
                yield self._result(rung, begun, failure=error.failure)
                return

    def _result(self, rung: Rung, begun: float, *, says: str = "", failure: Failure | None = None, skipped: bool = False) -> RungResult:
        ms = round((time.perf_counter() - begun) * 1000, 1)
        if failure is not None:
            # The standards' own codes are said as they stand; ours are only for the diagnosis.
            standard = failure.kind in ("token", "authorize", "resource") and failure.code not in (
                "refused_without_return",
                "no_token",
                "redirect",
            )
            said = (
                f"{failure.code} · {failure.detail}"
                if standard and not failure.code.startswith("status_")
                else failure.detail or failure.code
            )
            says = said.strip(" ·").replace("_", " ") if not standard else said.strip(" ·")
        return RungResult(rung, failure is None, says, ms, self._tries, dict(self._facts), tuple(self._exchanges), failure, skipped)

    # The road

    def _places(self) -> list[tuple[str, str, int]]:
        """Scheme, host and port of everything that is called, each once."""
        found = []
        for address in (self.plan.token_endpoint, self.plan.api_base):
            parts = take_apart(address)
            if not parts.host or parts.scheme not in ("http", "https") or not (parts.effective_port or "").isdigit():
                raise _Fell(Failure("setting", "address", CauseClass.UNKNOWN, f"“{address}” is not an address that can be called."))
            place = (parts.scheme, parts.host, int(parts.effective_port or 0))
            if place not in found:
                found.append(place)
        return found

    def _find(self) -> Generator[Leftover, None, str]:
        yield from ()
        words = []
        for host in dict.fromkeys(host for _, host, _ in self._places()):
            addresses = self._trying(partial(self.road.find, host))
            words.append(f"{host} → {addresses[0]}")
            self._facts[host] = addresses
        return "; ".join(words)

    def _reach(self) -> Generator[Leftover, None, str]:
        yield from ()
        for _, host, port in self._places():
            self._trying(partial(self.road.reach, host, port))
        return ", ".join(f"TCP {port}" for _, _, port in self._places()) + " direct"

    def _secure(self) -> Generator[Leftover, None, str]:
        yield from ()
        words = []
        for scheme, host, port in self._places():
            if scheme == "http":
                words.append(f"{host}: no TLS, on this machine only")
                continue
            sock = self.road.secure(host, port)
            certificate = sock.getpeercert() or {}
            ends = datetime.fromtimestamp(ssl.cert_time_to_seconds(str(certificate["notAfter"])), UTC)
            days = (ends - self.now()).days
            self._facts[f"{host}:{port}"] = {"version": sock.version(), "certificate_ends": ends.isoformat()}
            words.append(f"{(sock.version() or '').replace('v', ' ', 1)} · certificate good for {days} days")
        return "; ".join(dict.fromkeys(words))

    # Calls

    def _pause(self, seconds: float) -> None:
        until = time.monotonic() + seconds
        while True:
            if self.stop():
                raise Stopped
            left = until - time.monotonic()
            if left <= 0:
                return
            time.sleep(min(_SLICE, left))

    def _trying(self, act: Callable[[], T]) -> T:
        """Something that sends nothing, tried up to three times."""
        for tries in range(1, retries.MOST_TRIES + 1):
            self._pause(0)
            try:
                return act()
            except RoadError as error:
                final = error.failure.code in ("no_such_name", "forbidden_address") or tries == retries.MOST_TRIES
                self._tries = max(self._tries, tries)
                if final:
                    raise
                self._pause(retries.wait_before(tries, None, self.chance()) or 0)
        raise AssertionError("unreachable")

    def _send(self, request: oauth2.Request, *, safe: bool = False) -> Answer:
        """Send, and repeat what may be repeated. Every try is kept as evidence."""
        tries = 0
        secrets = (self._held.access_token,) if self._held else ()
        while True:
            self._keep_pace()
            tries += 1
            self._tries = max(self._tries, tries)
            asked = None
            try:
                answer = self.road.send(request, secrets)
            except RoadError as error:
                if error.exchange is not None:
                    self._exchanges.append(error.exchange)
                if error.failure.kind == "tls" or not retries.may_repeat(request.method, None, tries, safe):
                    raise
            else:
                self._exchanges.append(answer.exchange)
                self._note_clock(answer)
                spreading = self.plan.fresh and answer.status in (401, 403) and tries < retries.MOST_TRIES
                again = retries.repeatable_status(answer.status) and retries.may_repeat(request.method, answer.status, tries, safe)
                if not (spreading or again):
                    return answer
                if (value := replies.header(answer.headers, "Retry-After")) is not None:
                    asked = replies.retry_after(value, self.now())
                if asked is not None and retries.wait_before(tries, asked, 0) is None:
                    return answer
            self._pause(retries.wait_before(tries, asked, self.chance()) or 0)

    def _keep_pace(self) -> None:
        """Wait until the connection's pace allows one more call."""
        at = time.monotonic()
        self._bucket, wait = (self._bucket or retries.Bucket.full(self.plan.pace, at)).take(at)
        self._pause(wait)

    def _note_clock(self, answer: Answer) -> None:
        if self.clock_skew is None and (date := replies.header(answer.headers, "Date")):
            try:
                self.clock_skew = (parsedate_to_datetime(date) - self.now()).total_seconds()
            except (ValueError, TypeError):
                return

    # Signing in

    def _sign_in(self) -> Generator[Leftover, None, str]:
        yield from ()
        plan = self.plan
        if plan.scheme == CODE:
            self._ask_sign_in_page()
        try:
            # Client credentials: a new token each time, because that is what proves the secret.
            self._held, exchanges = self.keeper.token(self.road, plan.scheme != CODE)
        except NoToken as error:
            self._exchanges.extend(error.exchanges)
            raise _Fell(error.failure) from error
        self._exchanges.extend(exchanges)
        words = ["renewed the token" if self._held.renewed else "token alive"]
        if plan.introspection_endpoint and plan.scheme == CODE:
            words.append(self._introspect())
        if self._held.ends is not None:
            words.append(f"{max(0, int((self._held.ends - self.now()).total_seconds() // 60))} min left")
        self._facts["granted"] = sorted(self._held.granted)
        return " · ".join(words)

    def _ask_sign_in_page(self) -> None:
        plan = self.plan
        url = oauth2.authorization_url(
            plan.authorization_endpoint, plan.client.client_id, plan.redirect_uri, plan.scopes, "probe", _PROBE_CHALLENGE
        )
        answer = self._send(oauth2.Request("GET", url, (("Accept", "text/html"),)))
        failure = would_take(answer, "probe", plan.redirect_uri)
        self._facts["sign_in_page"] = answer.status
        if failure is not None:
            raise _Fell(failure)

    def _introspect(self) -> str:
        """Prove client and token at once without changing anything: ask whose token it is (RFC 7662)."""
        plan = self.plan
        assert self._held is not None
        for again in (False, True):
            request = oauth2.introspection_request(plan.introspection_endpoint, plan.client, self._held.access_token)
            answer = self._send(request, safe=True)
            reading = replies.read("introspection", answer.status, answer.headers, answer.text, self.now())
            if not reading.ok:
                raise _Fell(failure_of(reading, "token", answer.status))
            if reading.fields.get("active"):
                account = str(reading.fields.get("username") or "")
                if account:
                    self.keeper.told_account(account)
                return f"as {account}" if account else "known there"
            if again:
                break
            try:
                self._held, exchanges = self.keeper.token(self.road, True)
            except NoToken as error:
                self._exchanges.extend(error.exchanges)
                raise _Fell(error.failure) from error
            self._exchanges.extend(exchanges)
        raise _Fell(
            Failure(
                "token",
                "invalid_grant",
                CauseClass.CREDENTIAL,
                "The application says that the token is not active, also after renewing it.",
            )
        )

    # Rights and work

    def _call(self, method: str, path: str, body: dict[str, object] | None = None) -> Answer:
        assert self._held is not None
        address = path if "://" in path else self.plan.api_base.rstrip("/") + path
        return self._send(oauth2.api_request(method, address, self._held.access_token, body))

    def _check(self, answer: Answer, operation: str) -> None:
        if 300 <= answer.status < 400:
            raise _Fell(
                Failure(
                    "resource",
                    "redirect",
                    CauseClass.ROAD,
                    f"{operation} was sent on to {answer.headers.get('location', 'nowhere')}.",
                    answer.status,
                )
            )
        if answer.status >= 400:
            reading = replies.read("resource", answer.status, answer.headers, answer.text, self.now())
            raise _Fell(failure_of(reading, "resource", answer.status))

    def _allowed(self) -> Generator[Leftover, None, str]:
        yield from ()
        assert self._held is not None
        plan, held = self.plan, self._held.granted
        for operation in plan.needed:
            if gap := scopes.lacking(held, operation.alternatives, plan.implies):
                raise _Fell(Failure("resource", "insufficient_scope", CauseClass.RIGHT, f"{operation.name} needs {scopes.joined(gap)}, which was not granted.",
                                    scopes=tuple(sorted(gap))))  # fmt: skip
        candidates = [one for one in (plan.harmless, *plan.operations) if one is not None and one.method == "GET" and "{" not in one.path]
        harmless = next(
            (one for one in candidates if scopes.allows(held, one.alternatives, plan.implies)), candidates[0] if candidates else None
        )
        if harmless is None:
            return "—no harmless call is described for this application"
        answer = self._call("GET", harmless.path)
        self._check(answer, harmless.name)
        return f"{harmless.name} answered {answer.status}"

    def _work(self) -> Generator[Leftover, None, str]:
        plan, probe = self.plan, self.plan.probe
        assert self._held is not None
        make = (
            None
            if probe is None
            else next((one for one in plan.operations if one.covers(probe.make_method, self._fill(probe.make_path))), None)
        )
        if probe is None or (make is not None and not scopes.allows(self._held.granted, make.alternatives, plan.implies)):
            return (yield from self._read_only_work())
        filled = {key: value.replace("{test}", plan.mark) if isinstance(value, str) else value for key, value in probe.make_body.items()}
        clear = plan.api_base.rstrip("/") + self._fill(probe.clear_path)
        yield Leftover(probe.clear_method, clear, False)
        answer = self._call(probe.make_method, self._fill(probe.make_path), filled)
        self._check_work(answer, f"{probe.make_method} {probe.make_path}")
        if probe.look_path:
            look = self._call("GET", self._fill(probe.look_path))
            self._check_work(look, f"GET {probe.look_path}")
            if plan.mark not in look.text:
                raise _Fell(
                    Failure("work", "not_there", CauseClass.THEIRS, f"{plan.mark} was made, yet GET {probe.look_path} does not show it.")
                )
        cleared = self._call(probe.clear_method, clear)
        if cleared.status not in (404, 410):
            self._check_work(cleared, f"{probe.clear_method} {probe.clear_path}")
        yield Leftover(probe.clear_method, clear, True)
        return f"made {plan.mark}, saw it, cleared it away"

    def _read_only_work(self) -> Generator[Leftover, None, str]:
        """Where nothing may be made: every reading operation that the granted scopes allow."""
        yield from ()
        assert self._held is not None
        done = []
        for operation in self.plan.operations:
            if (
                operation.method == "GET"
                and "{" not in operation.path
                and scopes.allows(self._held.granted, operation.alternatives, self.plan.implies)
            ):
                answer = self._call("GET", operation.path)
                self._check_work(answer, operation.name)
                done.append(operation.name)
        return f"read only: {', '.join(done)}" if done else "—no piece of real work is described for these scopes"

    def _fill(self, path: str) -> str:
        return path.replace("{test}", self.plan.mark)

    def _check_work(self, answer: Answer, operation: str) -> None:
        if answer.status in (400, 404, 405, 409, 415, 422):
            # The application wants more, or something else, than was sent: a test that passes does not mean that the work passes.
            raise _Fell(
                Failure(
                    "work",
                    f"status_{answer.status}",
                    CauseClass.UNKNOWN,
                    f"{operation} answered {answer.status}: {answer.text[:200]}",
                    answer.status,
                )
            )
        self._check(answer, operation)
