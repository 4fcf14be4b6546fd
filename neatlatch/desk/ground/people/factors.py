"""The second factor: one-time codes of a device (RFC 6238), passkeys (Web Authentication Level 2),
and recovery codes that stand in for a lost one.

Whatever asks for a second factor takes one text, the *code*: six digits of the device, a recovery
code, or what :func:`.passkeys.take_proof` gave for a passkey that signed.
"""

from __future__ import annotations

import base64
import os
from datetime import datetime, timedelta

from django.db import transaction
from django.utils import timezone

from neatlatch.core import recovery, totp
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write

from . import challenges, passwords
from .models import Challenge, Person, RecoveryCode

_MOST_WRONG, _REST = 5, timedelta(minutes=15)
# A factor that anyone who has a session for an hour could set up opens nothing that is stored.
_YOUNG = timedelta(hours=24)
_MOST_NOTICES = 20


def has_any(person: Person) -> bool:
    """Whether a person has a second factor."""
    return person.factor is not None or person.passkeys.exists()


def tell(person: Person, says: str) -> None:
    """Leave word for a person of what was done to their log-in, as part of the surrounding
    transaction; they see it on every page until they have read it.
    """
    kept = Person.objects.select_for_update().get(pk=person.pk)
    kept.notices = [*kept.notices, {"at": timezone.now().isoformat(), "says": says[:300]}][
        -_MOST_NOTICES:
    ]
    kept.save(update_fields=["notices"])


def tell_of(by: Actor, person: Person, did: str) -> None:
    """Tell a person what somebody else did (``did`` goes on after the actor's name); of what one
    did oneself, nothing is told.
    """
    if by != person:
        name = by.shown_name
        tell(
            person,
            (
                f"{name[:1].upper()}{name[1:]} {did} If you did not ask for this, tell an "
                f"administrator."
            ),
        )


# Proving


def prove(person: Person, password: str, code: str) -> None:
    """That it is the person, and not only their session: by their second factor, by their password
    where they have none. Raises :class:`Problem`.
    """
    if has_any(Person.objects.get(pk=person.pk)):
        check(person, code)
    else:
        prove_password(person, password)


def prove_password(person: Person, password: str) -> None:
    """That it is the person, by their password. Raises :class:`Problem`."""
    if not counted(person, passwords.fits(person, password)):
        says = "This is not your password."
        raise Problem(
            403,
            "The password was not accepted.",
            "Give the password that you log in with.",
            {"password": says},
            code="wrong-password",
        )


@transaction.atomic
def counted(person: Person, right: bool) -> bool:
    """Count a proof; returns whether it is right.

    Raises :class:`Problem` while the person rests.
    """
    now = timezone.now()
    person = Person.objects.select_for_update().get(pk=person.pk)
    _check_rest(person, now)
    _count(person, right, now)
    person.save(update_fields=["factor_wrong", "factor_rests"])
    return right


def _check_rest(person: Person, now: datetime) -> None:
    if person.factor_rests is not None and person.factor_rests > now:
        raise Problem(
            429,
            "Too many wrong codes.",
            "Wait fifteen minutes, then try again.",
            retry_after=int(_REST.total_seconds()),
            code="too-many-wrong-codes",
        )


def _count(person: Person, right: bool, now: datetime) -> None:
    if right:
        person.factor_wrong, person.factor_rests = 0, None
        return
    person.factor_wrong += 1
    if person.factor_wrong >= _MOST_WRONG:
        person.factor_wrong, person.factor_rests = 0, now + _REST
        write(person, "gave too many wrong codes", "person", person.username)


def check(person: Person, code: str, for_stored: bool = False) -> None:
    """Take a fresh code of the second factor; each serves once.

    ``for_stored``: neither a recovery code nor a factor younger than a day opens what is stored.

    Raises :class:`Problem`, and after five wrong ones rests for a quarter of an hour.
    """
    now = timezone.now()
    with transaction.atomic():
        person = Person.objects.select_for_update().get(pk=person.pk)
        if not has_any(person):
            raise Problem(
                403,
                "This requires a second factor.",
                "Set one up below your menu, at “My log-in”, then try again.",
                code="second-factor-required",
            )
        _check_rest(person, now)
        if for_stored and not _has_old(person, now):
            raise _young()
        since = _taken(person, code, now)
        if code.strip():
            _count(person, since is not None, now)
        if since is not None and for_stored and now - since < _YOUNG:
            raise _young()
        person.save(update_fields=["factor_step", "factor_wrong", "factor_rests"])
    if since is None:
        says = (
            "This code is not right, or was used already. Wait for the next one."
            if code.strip()
            else asking(person)
        )
        raise Problem(
            403,
            "The second factor was not accepted.",
            says,
            {"code": says},
            code="wrong-second-factor",
        )


def _has_old(person: Person, now: datetime) -> bool:
    since = [person.factor_since or now] if person.factor is not None else []
    return any(
        now - added >= _YOUNG
        for added in (*since, *person.passkeys.values_list("added", flat=True))
    )


def _young() -> Problem:
    says = (
        "What is stored is shown by one that has been there for 24 hours, so that nobody who "
        "got hold of your session can set one up for it."
    )
    return Problem(
        403, "Your second factor is younger than a day.", says, code="second-factor-too-new"
    )


def asking(person: Person) -> str:
    """What to give, in a sentence, by the kinds that a person has."""
    if person.factor is None:
        return "Use your passkey, or give a recovery code."
    return (
        "Give the code that your device shows, or use your passkey."
        if person.passkeys.exists()
        else "Give the code that your device shows."
    )


def _taken(person: Person, code: str, now: datetime) -> datetime | None:
    """Since when the factor stands of which a code is right; a recovery code counts as made now.

    ``None``: it is not right. The person is not saved.
    """
    if code.startswith(challenges.PROVED):
        found = challenges.brought_back(Challenge.Purpose.CODE, code, now, person)
        return found.passkey.added if found is not None and found.passkey is not None else None
    if (read := recovery.read(code)) is not None:
        unused = RecoveryCode.objects.filter(person=person, digest=recovery.digest(read), used=None)
        if unused.update(used=now) == 0:
            return None
        write(
            person,
            "used a recovery code",
            "person",
            person.username,
            {"left": recovery_left(person)},
        )
        return now
    if person.factor is None:
        return None
    secret = base64.b64decode(safe.unseal(person.factor, person.place_of("factor")).reveal())
    step = totp.accept(secret, code, now.timestamp(), person.factor_step)
    if step is None:
        return None
    person.factor_step = step
    return person.factor_since or now


# One-time codes of a device


def begin_device(person: Person, password: str, code: str) -> tuple[str, str]:
    """Begin to set up one-time codes: answers their secret as it is typed and as an address for
    devices. They count once a code was shown.

    A session alone is not enough: see :func:`prove`. Raises :class:`Problem`.
    """
    prove(person, password, code)
    secret = os.urandom(totp.SECRET_OCTETS)
    sealed = safe.seal(base64.b64encode(secret).decode(), person.place_of("factor_begun"))
    Person.objects.filter(pk=person.pk).update(factor_begun=sealed)
    return totp.as_text(secret), totp.address(secret, person.username, "Neat Latch")


@transaction.atomic
def confirm_device(person: Person, code: str) -> list[str]:
    """The device shows a right code: it counts from now on.

    Returns recovery codes, if this is the first factor. Raises :class:`Problem`.
    """
    person = Person.objects.select_for_update().get(pk=person.pk)
    if person.factor_begun is None:
        raise Problem(
            409,
            "No second factor is being set up.",
            "Begin again.",
            code="no-second-factor-prepared",
        )
    plain = safe.unseal(person.factor_begun, person.place_of("factor_begun")).reveal()
    step = totp.accept(base64.b64decode(plain), code, timezone.now().timestamp())
    if step is None:
        raise wrong_fields(
            {
                "code": (
                    "This is not the code that the device should show now. Compare its clock "
                    "and the secret."
                )
            }
        )
    first = not has_any(person)
    person.factor, person.factor_begun, person.factor_step, person.factor_wrong = (
        safe.seal(plain, person.place_of("factor")),
        None,
        step,
        0,
    )
    person.factor_rests, person.factor_since = None, timezone.now()
    person.epoch += 1
    person.save(
        update_fields=[
            "factor",
            "factor_begun",
            "factor_step",
            "factor_wrong",
            "factor_rests",
            "factor_since",
            "epoch",
        ]
    )
    write(person, "set up a second factor", "person", person.username, {"kind": "one-time codes"})
    return make_recovery(person) if first else []


@transaction.atomic
def drop_device(by: Actor, person: Person) -> None:
    """Take one-time codes away: one's own, after :func:`check`, or those of somebody who lost their
    device, who is told.
    """
    person = Person.objects.select_for_update().get(pk=person.pk)
    person.factor = person.factor_begun = person.factor_rests = person.factor_since = None
    person.factor_step, person.factor_wrong = -1, 0
    person.save(
        update_fields=[
            "factor",
            "factor_begun",
            "factor_step",
            "factor_wrong",
            "factor_rests",
            "factor_since",
        ]
    )
    after_drop(by, person)
    tell_of(by, person, "removed your second factor. Set up a new one.")
    write(by, "removed the second factor of", "person", person.username)


def drop_all(by: Actor, person: Person) -> None:
    """Take away every second factor of somebody who lost them, passkeys too.

    They are told. Raises :class:`Problem` where there is none.
    """
    with transaction.atomic():
        if not has_any(Person.objects.get(pk=person.pk)):
            raise Problem(
                409, "There is no second factor.", "Nothing was removed.", code="no-second-factor"
            )
        person.passkeys.all().delete()
        drop_device(by, person)


def after_drop(by: Actor, person: Person) -> None:
    """Sessions end; without any factor left its recovery codes stand in for nothing."""
    person.epoch += 1
    person.save(update_fields=["epoch"])
    if not has_any(person):
        person.recovery_codes.all().delete()


# Recovery codes


def recovery_left(person: Person) -> int:
    """How many recovery codes have not been used."""
    return person.recovery_codes.filter(used=None).count()


@transaction.atomic
def new_recovery(person: Person) -> list[str]:
    """Ten new recovery codes in place of those there are, after :func:`check`; shown this once.

    Raises :class:`Problem`.
    """
    if not has_any(person):
        raise Problem(
            409,
            "There is no second factor to recover.",
            "Set one up first.",
            code="no-second-factor-to-recover",
        )
    return make_recovery(person)


def make_recovery(person: Person) -> list[str]:
    codes = [recovery.written(os.urandom(recovery.OCTETS)) for _ in range(recovery.COUNT)]
    person.recovery_codes.all().delete()
    RecoveryCode.objects.bulk_create(
        RecoveryCode(person=person, digest=recovery.digest(recovery.read(code) or ""))
        for code in codes
    )
    write(person, "had recovery codes made", "person", person.username)
    return codes
