"""Passkeys (Web Authentication Level 2), with user verification: made, asked to sign,
taken away.
"""

from __future__ import annotations

import ipaddress
import json
import secrets
from collections.abc import Mapping
from datetime import timedelta
from typing import Any
from urllib.parse import urlsplit

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from neatlatch.core.jose import b64
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write

from . import challenges, factors
from .models import Challenge, Passkey, Person

_MOST = 10
_CHALLENGE_LIVES, _CODE_LIVES = timedelta(minutes=5), timedelta(minutes=2)


def host() -> str:
    """The host that passkeys are made for, out of the address people open; empty: it is an IP
    address, for which there are none (Web Authentication §5.1.2).
    """
    host = urlsplit(settings.PUBLIC_URL).hostname or ""
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return host
    return ""


def _named_host() -> str:
    found = host()
    if not found:
        says = (
            "Open Neat Latch by a name, and say that name in NEATLATCH_URL: browsers make "
            "passkeys for names only."
        )
        raise Problem(
            409, "Passkeys do not work on an IP address.", says, code="passkeys-need-a-name"
        )
    return found


def _library() -> Any:
    """Web Authentication, loaded when the first passkey is used: what it knows of makers'
    attestations takes a sixth of a desk's start.
    """
    import webauthn

    return webauthn


def _descriptors(person: Person) -> list[Any]:
    known = _library().helpers.structs.PublicKeyCredentialDescriptor
    return [known(id=b64.decode(passkey.credential_id)) for passkey in person.passkeys.all()]


def begin(person: Person, password: str, code: str) -> dict[str, Any]:
    """Begin to add a passkey: what the browser is to be asked.

    A session alone is not enough: see :func:`.factors.prove`. Raises :class:`Problem`.
    """
    at = _named_host()
    if person.passkeys.count() >= _MOST:
        raise Problem(
            409,
            f"You have {_MOST} passkeys.",
            "Take one away that you no longer use.",
            code="too-many-passkeys",
        )
    factors.prove(person, password, code)
    library = _library()
    structs = library.helpers.structs
    options = library.generate_registration_options(
        rp_id=at,
        rp_name="Neat Latch",
        user_name=person.username,
        user_id=f"person-{person.pk}".encode(),
        user_display_name=person.shown_name,
        exclude_credentials=_descriptors(person),
        authenticator_selection=structs.AuthenticatorSelectionCriteria(
            resident_key=structs.ResidentKeyRequirement.DISCOURAGED,
            user_verification=structs.UserVerificationRequirement.REQUIRED,
        ),
    )
    challenges.give_out(
        person, Challenge.Purpose.ADD, b64.encode(options.challenge), _CHALLENGE_LIVES
    )
    return dict(json.loads(library.options_to_json(options)))


def _challenge_in(credential: Mapping[str, Any]) -> str:
    """The challenge that a browser says it answers. Raises :class:`Problem`."""
    try:
        said = json.loads(b64.decode(str(credential["response"]["clientDataJSON"])))
        return b64.encode(b64.decode(str(said["challenge"])))
    except (KeyError, TypeError, ValueError, RecursionError) as error:
        raise _not_taken("It is not what a browser returns for a passkey.") from error


def _not_taken(says: str) -> Problem:
    return Problem(
        403, "The passkey was not accepted.", says, {"passkey": says}, code="wrong-passkey"
    )


def add(person: Person, credential: dict[str, Any], name: str) -> list[str]:
    """Add the passkey that a browser made.

    Returns recovery codes, if this is the first factor. Raises :class:`Problem`.
    """
    at, now, challenge = _named_host(), timezone.now(), _challenge_in(credential)
    if challenges.brought_back(Challenge.Purpose.ADD, challenge, now, person) is None:
        raise _not_taken("Too much time has passed since it was begun. Begin again.")
    library = _library()
    try:
        made = library.verify_registration_response(
            credential=credential,
            expected_challenge=b64.decode(challenge),
            expected_rp_id=at,
            expected_origin=settings.PUBLIC_URL,
            require_user_verification=True,
        )
    except (
        library.helpers.exceptions.WebAuthnException,
        ValueError,
        KeyError,
        TypeError,
        RecursionError,
    ) as error:
        raise _not_taken(f"It could not be checked: {str(error)[:200]}") from error
    with transaction.atomic():
        person = Person.objects.select_for_update().get(pk=person.pk)
        first, identity = not factors.has_any(person), b64.encode(made.credential_id)
        if Passkey.objects.filter(credential_id=identity).exists():
            raise _not_taken("This passkey is known already.")
        Passkey.objects.create(
            person=person,
            name=name.strip()[:60] or "Passkey",
            credential_id=identity,
            public_key=made.credential_public_key,
            sign_count=made.sign_count,
            added=now,
        )
        person.epoch += 1
        person.save(update_fields=["epoch"])
        write(
            person,
            "set up a second factor",
            "person",
            person.username,
            {"kind": "passkey", "name": name.strip()[:60]},
        )
        return factors.make_recovery(person) if first else []


def begin_proof(person: Person) -> dict[str, Any]:
    """What a browser is to ask one of a person's passkeys. Raises :class:`Problem`."""
    at, known = _named_host(), _descriptors(person)
    if not known:
        raise Problem(
            409, "You have no passkey.", "Give the code that your device shows.", code="no-passkey"
        )
    library = _library()
    options = library.generate_authentication_options(
        rp_id=at,
        allow_credentials=known,
        user_verification=library.helpers.structs.UserVerificationRequirement.REQUIRED,
    )
    challenges.give_out(
        person, Challenge.Purpose.PROVE, b64.encode(options.challenge), _CHALLENGE_LIVES
    )
    return dict(json.loads(library.options_to_json(options)))


def take_proof(credential: dict[str, Any]) -> str:
    """A passkey has signed a challenge: the code that stands for it, good once and for two minutes,
    by anyone who was given the challenge. Raises :class:`Problem`.
    """
    at, now, challenge = _named_host(), timezone.now(), _challenge_in(credential)
    asked = challenges.brought_back(Challenge.Purpose.PROVE, challenge, now)
    known = (
        Passkey.objects.filter(
            person=asked.person, credential_id=str(credential.get("id", ""))
        ).first()
        if asked is not None
        else None
    )
    if asked is None or known is None:
        raise _not_taken("It was not asked for, or too much time has passed. Try again.")
    library = _library()
    try:
        proved = library.verify_authentication_response(
            credential=credential,
            expected_challenge=b64.decode(challenge),
            expected_rp_id=at,
            expected_origin=settings.PUBLIC_URL,
            credential_public_key=bytes(known.public_key),
            credential_current_sign_count=known.sign_count,
            require_user_verification=True,
        )
    except (
        library.helpers.exceptions.WebAuthnException,
        ValueError,
        KeyError,
        TypeError,
        RecursionError,
    ) as error:
        factors.counted(asked.person, False)
        raise _not_taken(f"It could not be checked: {str(error)[:200]}") from error
    code = f"{challenges.PROVED}{secrets.token_urlsafe(24)}"
    with transaction.atomic():
        Passkey.objects.filter(pk=known.pk).update(sign_count=proved.new_sign_count, last_used=now)
        challenges.give_out(asked.person, Challenge.Purpose.CODE, code, _CODE_LIVES, known)
    return code


@transaction.atomic
def drop(by: Actor, person: Person, identity: int) -> None:
    """Take a passkey away: one's own, after :func:`.factors.check`, or that of somebody who lost
    it, who is told. Raises :class:`Problem`.
    """
    person = Person.objects.select_for_update().get(pk=person.pk)
    found = person.passkeys.filter(pk=identity).first()
    if found is None:
        raise Problem(
            404,
            "There is no such passkey.",
            "It may have been removed already.",
            code="passkey-not-found",
        )
    found.delete()
    factors.after_drop(by, person)
    factors.tell_of(by, person, f"removed your passkey “{found.name}”.")
    write(by, "removed a passkey of", "person", person.username, {"name": found.name})


def wanted(person: Person) -> Problem:
    """That a second factor is required of somebody whose password was right and whom the page does
    not know yet: which kinds they have, and what to ask a passkey.
    """
    says, options = factors.asking(person), None
    if host() and person.passkeys.exists():
        options = begin_proof(person)
    return Problem(
        403,
        "Your second factor is required.",
        says,
        {"code": says},
        passkey=options,
        device=person.factor is not None,
        code="log-in-factor-required",
    )
