"""Keeping secrets, and handing a new one over once."""

from __future__ import annotations

import uuid
from collections.abc import Collection
from datetime import datetime

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from neatlatch.core import addresses, destinations, keys, strength
from neatlatch.core.certificates import reading
from neatlatch.core.intake.clean import clean, suspicions
from neatlatch.core.secret import hint
from neatlatch.desk.estate.records.clients.models import Client, Kind
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.ground.common import heavy, safe
from neatlatch.desk.ground.common.actors import Actor, ProgramCaller
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.actors import only_a_person
from neatlatch.desk.ground.people.models import Person


def keep(
    value: str,
    *,
    client: Client | None,
    source: str,
    by: str,
    ends: datetime | None = None,
    secret_id: str = "",
    kind: str = "client_secret",
    issued: datetime | None = None,
    names: Collection[str] = (),
) -> Credential:
    """Seal a secret.

    Part of the surrounding transaction. ``names`` are names that anybody knows, and that a good
    secret is none of.
    """
    identity, public_key = uuid.uuid4(), public_key_of(value) if kind == "private_key" else ""
    # Every private key in PEM ends alike; the hash of its public half tells them apart, and is no
    # secret.
    told = hint(public_key.rstrip("=") or value)
    credential = Credential(
        id=identity,
        client=client,
        fingerprint=safe.fingerprint(value),
        hint=told,
        source=source,
        ends=ends,
        secret_id=secret_id,
        issued=issued or timezone.now(),
        put_in_by=by,
        kind=kind,
        public_key=public_key,
        looks_like_id=_is_an_id(value, client),
        weak=_weakness(value, client, kind, names),
        sent_to=_of_application(client),
    )
    credential.value = safe.seal(value, credential.sealed_place)
    credential.save(force_insert=True)
    return credential


def _of_application(client: Client | None) -> list[str]:
    """Where a secret of a client goes: to the application that gave it, or the house.

    Empty: slots decide, with the first connection that holds it.
    """
    if client is None:
        return []
    deployment = client.deployment
    known = [
        *deployment.by_key().values(),
        *(deployment.published(key) for key in ("revocation_endpoint", "introspection_endpoint")),
    ]
    if any(addresses.placeholders(text) for text in known):
        return []
    return sorted(destinations.origins([*known, *([settings.PUBLIC_URL] if client.house else [])]))


def public_key_of(pem: str) -> str:
    """The other half of a private key, by the hash of its SubjectPublicKeyInfo.

    Raises a field error.
    """
    try:
        return keys.facts(keys.public_of(keys.open_own(pem.encode("utf-8")))).spki_sha256
    except (ValueError, TypeError) as error:
        raise wrong_fields(
            {"private_key": "This is not a private key that can be read."}
        ) from error


def _is_an_id(value: str, client: Client | None) -> bool:
    """Whether what was put in as a secret is one of the names the application knows us by: people
    paste the ID where the value belongs.
    """
    return client is not None and value in {
        client.client_id,
        *client.facts.values(),
        *client.credentials.values_list("secret_id", flat=True),
    } - {""}


def _weakness(value: str, client: Client | None, kind: str, names: Collection[str]) -> str:
    if kind.endswith("private_key"):
        return ""
    known = [*names]
    if client is not None:
        known += [
            client.name,
            client.account,
            client.deployment.application.name,
            client.deployment.application.key,
        ]
    return strength.weakness(value, kind.endswith("password"), [name for name in known if name])


def check_key(pasted: str) -> tuple[str, tuple[str, ...]]:
    """A pasted private key in PEM: as PKCS#8, and what was cleaned. Raises a field error."""
    cleaned = clean(pasted)
    try:
        return heavy.run(reading.open_key, cleaned.value.encode("utf-8")), cleaned.notes
    except keys.BadKey as error:
        raise wrong_fields({"private_key": str(error)}) from error


def check_pasted(pasted: str, key: str = "secret") -> tuple[str, tuple[str, ...], tuple[str, ...]]:
    """A pasted secret, cleaned: the value, what was cleaned, and what still looks wrong.

    Raises a field error where nothing is left.
    """
    cleaned = clean(pasted)
    if not cleaned.value:
        raise wrong_fields(
            {
                "secret"
                if key == "client_secret"
                else key: "Nothing is left of what was pasted. Paste the secret's value."
            }
        )
    return cleaned.value, cleaned.notes, suspicions(cleaned.value)


def new_handover(by: Actor, credential: Credential, ends: datetime | None = None) -> Handover:
    """Begin the handover of a new secret, as part of the surrounding transaction; ``ends`` is when
    it is revoked if nobody has taken it (``None``: it is not).
    """
    return Handover.objects.create(
        credential=credential,
        made_by=by if isinstance(by, Person) else None,
        made_by_program=by.username if isinstance(by, ProgramCaller) else "",
        ends=ends,
    )


def check_taker(by: Actor, credential: Credential) -> None:
    """That a program takes no program's token: it could give itself any right. Raises
    :class:`Problem`.
    """
    client = credential.client
    if isinstance(by, ProgramCaller) and client is not None and client.kind == Kind.PROGRAM:
        raise only_a_person()


@transaction.atomic
def show(by: Actor, handover: Handover) -> tuple[Credential, str]:
    """Show a new secret, this once. Raises :class:`Problem` where it was shown before."""
    handover = (
        Handover.objects.select_for_update()
        .select_related("credential__client")
        .get(pk=handover.pk)
    )
    check_taker(by, handover.credential)
    if handover.closed or handover.shown:
        raise Problem(
            410,
            "This secret was shown before.",
            "It cannot be shown again. If it was lost, have a new one made.",
            code="secret-shown-before",
        )
    handover.shown, handover.taken_by, handover.outcome = (
        timezone.now(),
        by.username,
        "shown to its maker",
    )
    handover.link = handover.code = ""
    handover.save()
    credential = handover.credential
    write(
        by,
        "was shown the secret",
        "credential",
        credential.hint,
        {"client": credential.client.name if credential.client else "", "id": credential.pk},
    )
    return credential, carried(credential)


def carried(credential: Credential) -> str:
    """What is handed over: the value, and with a key that the house certified its chain.

    Raises :class:`safe.CannotOpen`.
    """
    return credential.open().reveal() + credential.chain


@transaction.atomic
def close(by: Actor, handover: Handover) -> Handover:
    """“I have it”: closed for good."""
    handover = (
        Handover.objects.select_for_update()
        .select_related("credential__client")
        .get(pk=handover.pk)
    )
    if handover.closed is None:
        handover.closed = timezone.now()
        handover.taken_by = handover.taken_by or (by.username)
        handover.save(update_fields=["closed", "taken_by"])
        forget(handover.credential)
        write(
            by,
            "has the secret",
            "credential",
            handover.credential.hint,
            {"id": handover.credential.pk},
        )
    return handover


def forget(credential: Credential) -> None:
    """Keep only the digest of a secret of the house that was taken, unless a connection of ours
    holds it.
    """
    if credential.digest and not credential.holders.exists():
        Credential.objects.filter(pk=credential.pk).update(value=None)
