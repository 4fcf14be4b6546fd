"""Logging in and out, passwords, and the sessions of a person."""

from __future__ import annotations

import hashlib
from datetime import datetime, timedelta
from typing import Any

import structlog
from django.contrib.auth import authenticate, login, update_session_auth_hash
from django.db import transaction
from django.db.models import F
from django.http import HttpRequest
from django.utils import timezone

from neatlatch.core import tries
from neatlatch.desk.ground.common.actors import NOBODY, Actor
from neatlatch.desk.ground.common.problems import Problem, not_found, wrong_fields
from neatlatch.desk.ground.journal.services import write

from . import factors, passkeys, passwords
from .models import Person, Session, Tries
from .sessions import LOG_IN, digest

log = structlog.get_logger()
_KNOWN_FOR, _KEPT_FOR = timedelta(days=90), timedelta(days=1)
# A session says when it was last seen, to so many minutes: what only reads should not write each
# time.
_SEEN = timedelta(minutes=10)
_SHOWN_SESSIONS = 50


def log_in(
    request: HttpRequest, username: str, password: str, code: str, new_password: str
) -> Person:
    """Log in. ``code`` is of the second factor, where there is one; with a password that somebody
    else gave, ``new_password`` is required. Raises :class:`Problem`.
    """
    where = tries.network_of(str(request.META.get("REMOTE_ADDR", "")))
    counts = _Counts(username, where)
    counts.check()
    with passwords.slot():
        person = authenticate(request, username=username, password=password)
    if not isinstance(person, Person):
        counts.wrong()
        log.info("log-in refused", address=where)
        raise Problem(
            401,
            "Login name and password do not fit together.",
            "Check both and try again.",
            code="wrong-log-in",
        )
    if person.must_change:
        if not new_password:
            says = "This password was given to you. Choose one of your own."
            raise Problem(
                403,
                "Choose a new password.",
                says,
                {"new_password": says},
                must_change=True,
                code="new-password-required",
            )
        _check_new(person, password, new_password)
    if factors.has_any(person):
        if not code.strip():
            raise passkeys.wanted(person)
        factors.check(person, code)
    if person.must_change:
        passwords.put(person, new_password)
        with transaction.atomic():
            Person.objects.filter(pk=person.pk).update(
                password=person.password, must_change=False, epoch=F("epoch") + 1
            )
            write(person, "changed their password", "person", person.username)
        person = Person.objects.get(pk=person.pk)
        person.backend = "django.contrib.auth.backends.ModelBackend"
    counts.right()
    now = timezone.now().isoformat()
    login(request, person)
    browser = str(request.META.get("HTTP_USER_AGENT", ""))[:200]
    request.session[LOG_IN] = {
        "begun": now,
        "seen": now,
        "address": str(request.META.get("REMOTE_ADDR", "")),
        "browser": browser,
    }
    write(person, "logged in", "person", person.username)
    return person


def _check_new(person: Person, old: str, new: str) -> None:
    wrong = "This is the password you have." if new == old else passwords.wrong_with(new, person)
    if wrong:
        raise wrong_fields({"new_password": wrong})


class _Counts:
    """The counts of wrong log-ins that one log-in touches."""

    def __init__(self, username: str, where: str) -> None:
        name = username.strip().casefold()[:200]
        self.username = username[:100]
        self.known = self._digest("known", name, where)
        self.limits = {
            self._digest("both", name, where): tries.PAIR,
            self._digest("address", where): tries.ADDRESS,
            self._digest("name", name): tries.NAME,
        }

    @staticmethod
    def _digest(*parts: str) -> str:
        return hashlib.sha256("\0".join(parts).encode("utf-8", "surrogatepass")).hexdigest()

    def _rows(self) -> dict[str, Tries]:
        return {
            counted.digest: counted
            for counted in Tries.objects.filter(digest__in=[*self.limits, self.known])
        }

    def check(self) -> None:
        """Raise :class:`Problem` (429) while further tries must wait."""
        now, rows = timezone.now(), self._rows()
        waits = [
            tries.wait(tries.TryCount(rows[key].wrong, rows[key].since, rows[key].until), now)
            for key, limit in self.limits.items()
            if key in rows and not (limit.slows and self.known in rows)
        ]
        if (longest := max(waits, default=0.0)) > 0:
            words = f"Wait {_minutes(longest)}, then try again, or ask an administrator."
            raise Problem(
                429,
                "Too many wrong passwords.",
                words,
                retry_after=int(longest) + 1,
                code="too-many-wrong-passwords",
            )

    @transaction.atomic
    def wrong(self) -> None:
        """Count one more.

        The journal has one entry where somebody is locked out, however often they try.
        """
        now, rows = timezone.now(), self._rows()
        for key, limit in self.limits.items():
            row = rows.get(key) or Tries(digest=key)
            count, begins = tries.after_wrong(
                tries.TryCount(row.wrong, row.since, row.until), limit, now
            )
            row.wrong, row.since, row.until, row.at = count.wrong, count.since, count.until, now
            row.save()
            if begins:
                write(
                    NOBODY,
                    "locked out" if not limit.slows else "slowed down",
                    "person",
                    self.username,
                )

    @transaction.atomic
    def right(self) -> None:
        """This name is known at this address from here on, and its count there begins anew.

        That of the address goes on: it may be somebody's own name among others'.
        """
        pair = next(iter(self.limits))
        now = timezone.now()
        Tries.objects.filter(digest=pair).delete()
        Tries.objects.update_or_create(digest=self.known, defaults={"known": True, "at": now})


def _minutes(seconds: float) -> str:
    return f"{int(seconds) + 1} seconds" if seconds < 60 else f"{int(seconds / 60) + 1} minutes"


def forget_old(now: datetime) -> None:
    """Delete sessions that ended, counts that hold nobody any more, and addresses that
    nobody has logged in from for long.
    """
    Session.objects.filter(expire_date__lt=now).delete()
    Tries.objects.filter(known=False, at__lt=now - _KEPT_FOR).delete()
    Tries.objects.filter(known=True, at__lt=now - _KNOWN_FOR).delete()


# Passwords


def change_password(request: HttpRequest, person: Person, old: str, new: str, code: str) -> None:
    """Change one's own password, with the old one and, where there is one, the second factor.

    All other sessions end. Raises :class:`Problem`.
    """
    _check_new(person, old, new)
    factors.prove_password(person, old)
    if factors.has_any(person):
        factors.check(person, code)
    passwords.put(person, new)
    with transaction.atomic():
        Person.objects.filter(pk=person.pk).update(
            password=person.password, must_change=False, epoch=F("epoch") + 1
        )
        write(person, "changed their password", "person", person.username)
    go_on(request, person)


def give_password(by: Actor, person: Person, password: str) -> None:
    """Give somebody a password, which they must change when they log in with it.

    Their sessions end, and they are told. Raises :class:`Problem`.
    """
    if wrong := passwords.wrong_with(password, person):
        raise wrong_fields({"password": wrong})
    passwords.put(person, password)
    with transaction.atomic():
        Person.objects.filter(pk=person.pk).update(
            password=person.password, must_change=True, epoch=F("epoch") + 1
        )
        factors.tell_of(by, person, "gave you a new password.")
        write(by, "gave a new password to", "person", person.username)


# Sessions


def go_on(request: HttpRequest, person: Person) -> None:
    """The session in which something was done goes on, under a new key; all others of the person
    have ended.
    """
    request.user = Person.objects.get(pk=person.pk)
    update_session_auth_hash(request, request.user)
    end_rows(person, but=digest(request.session.session_key or ""))


def end_rows(person: Person, but: str = "") -> None:
    """Remove the rows of sessions that have ended with the epoch."""
    Session.objects.filter(person=person).exclude(session_key=but).delete()


def sessions_of(person: Person) -> list[Session]:
    """The sessions of a person that live, the newest first."""
    return list(
        Session.objects.filter(person=person, expire_date__gt=timezone.now()).order_by("-begun")[
            :_SHOWN_SESSIONS
        ]
    )


def public_id(session: Session) -> str:
    """What names a session: half of the digest of its key, which opens nothing."""
    return session.session_key[:20]


@transaction.atomic
def end_session(by: Actor, person: Person, identity: str) -> None:
    """End one session of a person. Raises :class:`Problem`."""
    found = (
        Session.objects.filter(person=person, session_key__startswith=identity).first()
        if len(identity) == 20
        else None
    )
    if found is None:
        raise not_found("session")
    found.delete()
    factors.tell_of(by, person, "ended a session of yours.")
    write(by, "ended a session of", "person", person.username, {"from": found.address})


@transaction.atomic
def end_sessions(by: Actor, person: Person, elsewhere: bool = False) -> None:
    """End every session of a person.

    ``elsewhere``: they go on here by a new one, and the journal says so.
    """
    Person.objects.filter(pk=person.pk).update(epoch=F("epoch") + 1)
    end_rows(person)
    factors.tell_of(by, person, "logged you out everywhere.")
    write(
        by,
        "logged out everywhere else" if elsewhere else "logged out everywhere",
        "person",
        person.username,
    )


def still_may(person: Person, session: str) -> bool:
    """Whether somebody who began to watch in a session is still logged in by it, with the access
    and the role of then.
    """
    stands = Person.objects.filter(
        pk=person.pk, is_active=True, epoch=person.epoch, role=person.role, password=person.password
    )
    return (
        stands.exists()
        and Session.objects.filter(
            session_key=digest(session), expire_date__gt=timezone.now()
        ).exists()
    )


def record_seen(request: HttpRequest) -> None:
    """Note in its session that somebody is still there, every ten minutes."""
    told: dict[str, Any] = request.session.get(LOG_IN) or {}
    now = timezone.now()
    if told and told.get("seen", "") < (now - _SEEN).isoformat():
        request.session[LOG_IN] = {**told, "seen": now.isoformat()}
