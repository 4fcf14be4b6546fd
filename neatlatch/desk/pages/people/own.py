"""One's own log-in: logging in and out, password, second factor and sessions."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from django.contrib.auth import logout
from django.http import HttpRequest, HttpResponse
from django.middleware.csrf import get_token
from ninja import Router
from ninja.utils import check_csrf

from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people import factors, first_administrator, log_in, passkeys, services
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.ground.people.sessions import digest

router = Router(tags=["people"])


class LogIn(RequestBody):
    """Login name and password; the code of the second factor where there is one; a new password in
    place of one that somebody else gave.
    """

    username: str
    password: str
    code: str = ""
    new_password: str = ""


class FirstAdministrator(RequestBody):
    """The first administrator; ``token`` is the end of the set-up address."""

    token: str
    username: str
    name: str
    password: str


@dataclass(frozen=True, kw_only=True)
class NoticeOut:
    """What somebody else did to one's log-in."""

    at: datetime
    says: str


@dataclass(frozen=True, kw_only=True)
class PasskeyOut:
    """A passkey, as a person tells theirs apart."""

    id: int
    name: str
    added: datetime
    last_used: datetime | None


@dataclass(frozen=True, kw_only=True)
class SessionOut:
    """Who is logged in (``null``: nobody), what they may do, and the token that changing requests
    must carry.

    ``second_factor``: whether there is any; ``device``: whether a device shows one-time codes.
    ``passkeys_at`` is the host that passkeys work at (empty: none does, because Neat Latch is
    opened by an IP address). ``recovery_codes`` are shown by the answer to what made them, and
    never again.
    """

    csrf: str
    # Whether nobody can log in yet, because the first administrator is still to be made.
    set_up_first: bool = False
    person: str | None = None
    username: str | None = None
    initials: str | None = None
    role: str | None = None
    may: list[str] = field(default_factory=list)
    keys_on: bool = True
    second_factor: bool = False
    device: bool = False
    passkeys: list[PasskeyOut] = field(default_factory=list)
    passkeys_at: str = ""
    recovery_left: int = 0
    recovery_codes: list[str] = field(default_factory=list)
    notices: list[NoticeOut] = field(default_factory=list)


@dataclass(frozen=True, kw_only=True)
class FactorOut:
    """One-time codes that are being set up: their secret as it is typed, and as an address that
    devices take. Shown this once.
    """

    secret: str
    address: str


class IdentityProof(RequestBody):
    """That it is the person: a code of the second factor that is there, or the password where there
    is none.
    """

    password: str = ""
    code: str = ""


class Code(RequestBody):
    """A code of the second factor."""

    code: str


class PasskeyIn(RequestBody):
    """What the browser answered when it made a passkey (``toJSON``, Web Authentication Level 3
    §5.1), and how the person calls it.
    """

    credential: dict[str, Any]
    name: str = ""


class PasskeyProof(RequestBody):
    """What the browser answered when it asked a passkey."""

    credential: dict[str, Any]


@dataclass(frozen=True, kw_only=True)
class AskBrowser:
    """What the browser is to be asked (``parseCreationOptionsFromJSON`` or
    ``parseRequestOptionsFromJSON`` take it).
    """

    options: dict[str, Any]


class PasswordChange(RequestBody):
    """A new password for oneself."""

    password: str
    new_password: str
    code: str = ""


@dataclass(frozen=True, kw_only=True)
class OneSessionOut:
    """A session: when and from where it was begun, when it was last seen (to ten minutes), and
    whether it is this one.
    """

    id: str
    begun: datetime | None
    seen: datetime | None
    ends: datetime
    address: str
    browser: str
    here: bool


class Preferences(RequestBody):
    """A person's own settings."""

    keys_on: bool


def _session(request: HttpRequest, recovery_codes: list[str] | None = None) -> SessionOut:
    person = request.user
    if not isinstance(person, Person):
        nobody = not Person.objects.exists()
        return SessionOut(csrf=get_token(request), set_up_first=nobody, passkeys_at=passkeys.host())
    initials = "".join(part[0] for part in person.shown_name.split()[:2]).upper()
    allowed = [
        what for what in ("look", "test", "change", "read_journal") if guard.may(person, what)
    ]
    kept = list(person.passkeys.all())
    return SessionOut(
        csrf=get_token(request),
        person=person.shown_name,
        username=person.username,
        initials=initials,
        role=person.role,
        may=allowed,
        keys_on=person.keys_on,
        second_factor=bool(person.factor is not None or kept),
        device=person.factor is not None,
        passkeys=[
            PasskeyOut(
                id=passkey.pk, name=passkey.name, added=passkey.added, last_used=passkey.last_used
            )
            for passkey in kept
        ],
        passkeys_at=passkeys.host(),
        recovery_left=factors.recovery_left(person),
        recovery_codes=recovery_codes or [],
        notices=[
            NoticeOut(at=datetime.fromisoformat(notice["at"]), says=notice["says"])
            for notice in person.notices
        ],
    )


def _stay(request: HttpRequest, recovery_codes: list[str] | None = None) -> SessionOut:
    log_in.go_on(request, guard.person_of(request))
    return _session(request, recovery_codes)


def _from_our_page(request: HttpRequest) -> None:
    if check_csrf(request):
        raise problems.page_too_old()


@router.get("/session", auth=None, response=SessionOut)
def session(request: HttpRequest) -> SessionOut:
    """Who is logged in."""
    return _session(request)


@router.post("/session", auth=None, response=SessionOut)
def begin(request: HttpRequest, body: LogIn) -> SessionOut:
    """Log in. After five wrong passwords a login name is locked for fifteen minutes at the address
    they came from.
    """
    _from_our_page(request)
    log_in.log_in(request, body.username, body.password, body.code, body.new_password)
    return _session(request)


@router.post("/session/first-administrators", auth=None, response=SessionOut)
def set_up(request: HttpRequest, body: FirstAdministrator) -> SessionOut:
    """Make the first administrator, with the token of the set-up address, and log them in."""
    _from_our_page(request)
    made = first_administrator.make(body.token, body.username, body.name, body.password)
    log_in.log_in(request, made.username, body.password, "", "")
    return _session(request)


@router.delete("/session", response={204: None})
def log_out(request: HttpRequest) -> tuple[int, None]:
    """Log out."""
    person = guard.person_of(request)
    write(person, "logged out", "person", person.username)
    logout(request)
    return 204, None


@router.put("/session/preferences", response=SessionOut)
def preferences(request: HttpRequest, body: Preferences) -> SessionOut:
    """Change one's own settings."""
    person = guard.person_of(request)
    person.keys_on = body.keys_on
    person.save(update_fields=["keys_on"])
    return _session(request)


@router.post("/session/passwords", response=SessionOut)
def change_password(request: HttpRequest, body: PasswordChange) -> SessionOut:
    """Change one's own password. All other sessions end."""
    log_in.change_password(
        request, guard.person_of(request), body.password, body.new_password, body.code
    )
    return _session(request)


@router.post("/session/second-factors", response={201: FactorOut})
def begin_device(
    request: HttpRequest, response: HttpResponse, body: IdentityProof
) -> tuple[int, FactorOut]:
    """Begin to set up one-time codes of a device.

    Those that are there already stay until the new ones are confirmed.
    """
    secret, address = factors.begin_device(guard.person_of(request), body.password, body.code)
    return 201, FactorOut(secret=secret, address=address)


@router.post("/session/second-factors/confirmations", response=SessionOut)
def confirm_device(request: HttpRequest, body: Code) -> SessionOut:
    """Confirm them with a code that the device shows.

    With the first factor come ten recovery codes.
    """
    return _stay(request, factors.confirm_device(guard.person_of(request), body.code))


@router.post("/session/second-factors/removals", response=SessionOut)
def drop_device(request: HttpRequest, body: Code) -> SessionOut:
    """Do without one-time codes from now on."""
    factors.check(guard.person_of(request), body.code)
    factors.drop_device(guard.person_of(request), guard.person_of(request))
    return _stay(request)


@router.post("/session/recovery-codes", response=SessionOut)
def new_recovery(request: HttpRequest, body: Code) -> SessionOut:
    """Ten new recovery codes in place of those there are."""
    factors.check(guard.person_of(request), body.code)
    return _session(request, factors.new_recovery(guard.person_of(request)))


@router.post("/session/passkeys/options", response={201: AskBrowser})
def begin_passkey(request: HttpRequest, body: IdentityProof) -> tuple[int, AskBrowser]:
    """Begin to add a passkey."""
    return 201, AskBrowser(
        options=passkeys.begin(guard.person_of(request), body.password, body.code)
    )


@router.post("/session/passkeys", response={201: SessionOut})
def add_passkey(request: HttpRequest, body: PasskeyIn) -> tuple[int, SessionOut]:
    """Add the passkey that the browser made. With the first factor come ten recovery codes."""
    return 201, _stay(request, passkeys.add(guard.person_of(request), body.credential, body.name))


@router.post("/session/passkeys/{identity}/removals", response=SessionOut)
def drop_passkey(request: HttpRequest, identity: int, body: Code) -> SessionOut:
    """Take a passkey of one's own away."""
    factors.check(guard.person_of(request), body.code)
    passkeys.drop(guard.person_of(request), guard.person_of(request), identity)
    return _stay(request)


@router.post("/session/passkeys/challenges", response={201: AskBrowser})
def ask_passkey(request: HttpRequest) -> tuple[int, AskBrowser]:
    """What the browser is to ask a passkey of the person who is logged in."""
    return 201, AskBrowser(options=passkeys.begin_proof(guard.person_of(request)))


@router.post("/session/passkeys/assertions", auth=None, response={201: Code})
def prove(request: HttpRequest, body: PasskeyProof) -> tuple[int, Code]:
    """A passkey has signed: the code that stands for it, good once and for two minutes, wherever a
    code of the second factor is asked for.
    """
    _from_our_page(request)
    return 201, Code(code=passkeys.take_proof(body.credential))


@router.get("/session/sessions", response=list[OneSessionOut])
def sessions(request: HttpRequest) -> list[OneSessionOut]:
    """Where one is logged in, the newest first."""
    here = digest(request.session.session_key or "")
    return [
        OneSessionOut(
            id=log_in.public_id(one),
            begun=one.begun,
            seen=one.seen,
            ends=one.expire_date,
            address=one.address,
            browser=one.browser,
            here=one.session_key == here,
        )
        for one in log_in.sessions_of(guard.person_of(request))
    ]


@router.delete("/session/sessions/{identity}", response={204: None})
def end_session(request: HttpRequest, identity: str) -> tuple[int, None]:
    """End one of one's sessions."""
    log_in.end_session(guard.person_of(request), guard.person_of(request), identity)
    return 204, None


@router.post("/session/log-outs", response=SessionOut)
def end_sessions(request: HttpRequest, here: bool = False) -> SessionOut:
    """Log out everywhere else; ``here``: in this session too."""
    person = guard.person_of(request)
    log_in.end_sessions(person, person, elsewhere=not here)
    if not here:
        return _stay(request)
    logout(request)
    return _session(request)


@router.delete("/session/notices", response=SessionOut)
def read_notices(request: HttpRequest) -> SessionOut:
    """What was done to one's log-in is read."""
    services.read_notices(guard.person_of(request))
    request.user = Person.objects.get(pk=guard.person_of(request).pk)
    return _session(request)
