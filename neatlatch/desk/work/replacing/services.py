"""Replacing a credential in the usual order: make, prove, switch, watch, retire, prove refused;
rolled back until then.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from neatlatch.core import exchanging, keys, registration
from neatlatch.core.certificates import reading
from neatlatch.core.certificates.facts import of_certificate
from neatlatch.core.schemes import SIGNING_SECRET
from neatlatch.desk.authority.certificates import services as certificates
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.authority.records.certificates.models import Issued
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import destinations
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.credentials.services import check_pasted, forget, keep
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground import won
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.actors import actor_of
from neatlatch.desk.work.drawing.models import Drawn

from . import trial
from .models import Replacement
from .overview import connections_with_keys, holders, name_of, previews, standing, workloads_of


@transaction.atomic
def begin(by: Actor, credential: Credential, way: str) -> Replacement:
    """Begin to replace a credential. Nothing is made yet."""
    credential = Credential.objects.select_for_update().get(pk=credential.pk)
    if not credential.lives:
        raise Problem(
            409,
            "This credential is no longer in use.",
            "Make a new one where it was issued.",
            code="credential-not-in-use",
        )
    if (open_one := Replacement.objects.filter(old=credential, outcome="open").first()) is not None:
        return open_one
    found = next(
        (preview for preview in previews(credential, timezone.now()) if preview.way == way), None
    )
    if found is None:
        raise wrong_fields({"way": "This credential cannot be replaced that way."})
    held = holders(credential)
    made = Replacement.objects.create(
        old=credential,
        way=way,
        overlaps=found.overlaps,
        begun=timezone.now(),
        begun_by=by.username,
        holders=[
            [str(holder.connection_id), holder.key, str(holder.credential_id)] for holder in held
        ],
    )
    write(by, "began to replace", "credential", credential.hint, {"way": way, "id": credential.pk})
    return made


def _open(replacement: Replacement) -> Replacement:
    """The replacement, locked. Raises :class:`Problem` where it is over."""
    found = (
        Replacement.objects.select_for_update()
        .select_related("old__client", "new__client")
        .get(pk=replacement.pk)
    )
    if found.outcome != Replacement.Outcome.OPEN:
        raise Problem(409, "This replacement is over.", "Begin another.", code="process-over")
    return found


# Make


@dataclass(frozen=True)
class ManualCredential:
    """What was made manually: pasted, or a file with its password; ``name`` is what the application
    knows the new one by, where that is another.
    """

    value: str = ""
    file: bytes = b""
    password: str = ""
    name: str = ""
    ends: datetime | None = None


NOTHING = ManualCredential()


def make(by: Actor, replacement: Replacement, entered: ManualCredential = NOTHING) -> Replacement:
    """Make the second one: at the house, by protocol, or by taking in what was made manually.

    Taken in once more, manually, what is given takes the place of a new one that nobody has proven.
    """
    if replacement.made is not None:
        return (
            replacement
            if entered == NOTHING or replacement.way != "hand"
            else _correct(by, replacement, entered)
        )
    if replacement.way == "protocol":
        return _make_by_protocol(by, replacement)
    opened = _opened(replacement, entered)
    with transaction.atomic():
        replacement = _open(replacement)
        new = (
            _make_at_house(by, replacement)
            if replacement.way == "house"
            else _take_in(by, replacement, entered, opened)
        )
        return _made(by, replacement, new)


def _correct(by: Actor, replacement: Replacement, entered: ManualCredential) -> Replacement:
    """Take another value in place of the new one, which was pasted wrongly."""
    opened = _opened(replacement, entered)
    with transaction.atomic():
        replacement = _open(replacement)
        wrong = replacement.new
        assert wrong is not None
        if replacement.proven is not None or replacement.retired is not None:
            raise Problem(
                409,
                "The new one was proven already.",
                "Roll it back, or replace it by another.",
                code="new-credential-proven",
            )
        if (
            opened is None
            and safe.fingerprint(check_pasted(entered.value, "value")[0]) == wrong.fingerprint
        ):
            return replacement
        new = _take_in(by, replacement, entered, opened)
        state = (
            Credential.State.PREPARED if replacement.switched is None else Credential.State.ACTIVE
        )
        Credential.objects.filter(pk=new.pk).update(state=state, replaces=replacement.old)
        destinations.follow(new, wrong)
        for connection, key in (
            connections_with_keys(replacement) if replacement.switched is not None else ()
        ):
            _put(by, connection, key, new, replacement.values)
        Credential.objects.filter(pk=wrong.pk).update(
            state=Credential.State.RETIRED,
            revoked=timezone.now(),
            why="another was taken in in its place",
        )
        replacement.new, replacement.said = new, ""
        replacement.save(update_fields=["new", "said", "values"])
        if replacement.switched is not None:
            _record_facts(by, replacement, replacement.values)
        write(
            by,
            "took in another to replace",
            "credential",
            replacement.old.hint,
            {"new": new.hint, "id": replacement.old_id},
        )
    return replacement


def _opened(replacement: Replacement, entered: ManualCredential) -> reading.CertificateFile | None:
    """The file of certificates and keys that was given, opened before any transaction; ``None``
    where none is wanted. Raises a field error.
    """
    if replacement.way == "house" or replacement.old.kind != "private_key":
        return None
    data = entered.value.encode("utf-8") if entered.value.strip() else entered.file
    return connections.read_certificate(data, entered.password or None, "value")


def _made(by: Actor, replacement: Replacement, new: Credential) -> Replacement:
    """Record the new one, as prepared; where only one may live, it is put to use at once.

    Part of the surrounding transaction.
    """
    Credential.objects.filter(pk=new.pk).update(
        state=Credential.State.PREPARED, replaces=replacement.old
    )
    for credential in Credential.objects.filter(
        pk__in=[replacement.old_id, *(held for _, _, held in replacement.holders)]
    ):
        destinations.follow(new, credential)
    replacement.new, replacement.made, replacement.said = new, timezone.now(), ""
    replacement.save()
    write(
        by,
        "made one to replace",
        "credential",
        replacement.old.hint,
        {"new": new.hint, "id": replacement.old_id},
    )
    if not replacement.overlaps:
        _switch(by, replacement)
    return replacement


def _make_at_house(by: Actor, replacement: Replacement) -> Credential:
    old = replacement.old
    issued = (
        Issued.objects.select_related("authority", "credential__client")
        .filter(credential=old)
        .first()
    )
    if issued is not None:
        if issued.by_request:
            raise Problem(
                409,
                "Its key is with its holder.",
                "Renew it on the certificate's page with a new signing request.",
                code="key-with-holder",
            )
        made, handover = certificates.renew(by, issued)
        new, replacement.values = made.credential, {"certificate": made.credential.whole_chain}
    else:
        assert old.client is not None
        handover = issuing.add_secret(by, old.client)
        new = handover.credential
    if handover is not None and replacement.holders:
        handover.delete()  # it goes from safe to safe: nobody has to carry it
    return new


def _take_in(
    by: Actor,
    replacement: Replacement,
    entered: ManualCredential,
    opened: reading.CertificateFile | None,
) -> Credential:
    old = replacement.old
    if opened is not None:
        return _take_certificate(by, replacement, opened)
    named = name_of(replacement)
    if named is not None and entered.name.strip():
        replacement.values = {named.key: check_pasted(entered.name, "name")[0]}
    text = check_pasted(entered.value, "value")[0]
    if safe.fingerprint(text) == old.fingerprint:
        raise wrong_fields({"value": "This is the old one. Copy the value of the new one."})
    new = keep(
        text, client=old.client, source=old.source, by=by.username, ends=entered.ends, kind=old.kind
    )
    if new.looks_like_id:
        raise wrong_fields(
            {"value": "This is an ID that the application knows us by, and not the secret's value."}
        )
    return new


def _take_certificate(
    by: Actor, replacement: Replacement, file: reading.CertificateFile
) -> Credential:
    """A new certificate with its key. Raises a field error."""
    leaf = file.leaf()
    if leaf is None or not file.keys:
        raise wrong_fields(
            {
                "password" if file.locked else "value": (
                    "Both are required: the certificate with its chain, and its private key."
                )
            }
        )
    if not keys.match(file.keys[0], leaf.public_key()):
        raise wrong_fields({"value": "The private key in it is not this certificate's."})
    old = replacement.old
    if keys.facts(leaf.public_key()).spki_sha256 == old.public_key:
        raise wrong_fields({"value": "This is the old key. A replacement requires a new one."})
    replacement.values = {"certificate": file.chain()}
    return keep(
        reading.key_as_pem(file.keys[0]),
        client=old.client,
        source=old.source,
        by=by.username,
        ends=leaf.not_valid_after_utc,
        kind=old.kind,
    )


def _make_by_protocol(by: Actor, replacement: Replacement) -> Replacement:
    """Ask the application for a new client secret (RFC 7592 §2.2).

    That it was asked stands here before the request goes out: the answer can be lost.
    """
    with transaction.atomic():
        replacement = _open(replacement)
        client = replacement.old.client
        if client is None:
            raise Problem(
                409,
                "It is not known whose secret this is.",
                "Replace it manually.",
                code="secret-owner-unknown",
            )
        Replacement.objects.filter(pk=replacement.pk).update(
            said="The application was asked for a new one; its answer has not come."
        )
        write(
            by,
            "asked for one to replace",
            "credential",
            replacement.old.hint,
            {"client": client.client_id, "id": replacement.old_id},
        )
    try:
        answer = clients.ask_for_secret(client, replacement.old.open().reveal())
    except Problem as problem:
        Replacement.objects.filter(pk=replacement.pk).update(
            said=f"{problem.title} {problem.detail}"[:400]
        )
        raise
    facts = {
        "replacement": str(replacement.pk),
        "client": str(client.pk),
        "answer": answer,
        "by": by.username,
    }
    saved: Replacement = won.keep("secret", f"client-{client.pk}", facts)
    return saved


@won.saves("secret")
def _save_secret(facts: won.Facts) -> Replacement:
    """Save the secret that an application gave by protocol, with the right of management that its
    answer may renew.
    """
    answer, by = facts["answer"], actor_of(facts["by"])
    with transaction.atomic():
        clients.save_management(facts)
        replacement = (
            Replacement.objects.select_for_update()
            .select_related("old__client", "new__client")
            .get(pk=facts["replacement"])
        )
        if replacement.made is not None:  # it was saved before
            return replacement
        old = replacement.old
        ends = registration.secret_end(answer)
        new = keep(
            str(answer["client_secret"]),
            client=old.client,
            source="registered",
            by=by.username,
            ends=ends,
            kind=old.kind,
        )
        return _made(by, replacement, new)


# Prove, switch, roll back


def prove(by: Actor, replacement: Replacement) -> tuple[Replacement, trial.Outcome]:
    """Try the new one at the application, in every connection that is to hold it.

    Nothing else uses it yet, and no token of it is kept.
    """
    new = replacement.new
    if new is None:
        raise Problem(409, "The new one has not been made yet.", code="new-credential-missing")
    outcome = _used_by_its_holder(Credential.objects.get(pk=new.pk))
    signs = new.kind == SIGNING_SECRET
    if signs:
        outcome = _signed_with(new)
    for connection, key in [] if signs else connections_with_keys(replacement):
        outcome = trial.attempt(connection, {key: new}, replacement.values, fresh=True)
        if not outcome.passed:
            break
    with transaction.atomic():
        replacement = _open(replacement)
        if outcome.passed:
            replacement.proven = timezone.now()
            write(by, "proved", "credential", new.hint, {"id": new.pk})
        replacement.said = (
            f"The new one works: {outcome.says}"
            if outcome.passed
            else f"The new one does not work: {outcome.says}"
        )[:400]
        replacement.save(update_fields=["proven", "said"])
    return replacement, outcome


def _used_by_its_holder(new: Credential) -> trial.Outcome:
    """The proof of one that no connection here holds: that it has been seen in use."""
    if new.last_used is None:
        return trial.Outcome(
            False,
            False,
            "its holder has not used it yet. Hand it over, and look again when it is in use.",
        )
    return trial.Outcome(
        True,
        False,
        f"its holder has used it, from {new.last_used_from or 'an address that is not known'}.",
    )


def _signed_with(new: Credential) -> trial.Outcome:
    """The proof of a signing secret: that a call signed with it was checked."""
    last = Drawn.objects.filter(credential=str(new.pk)).aggregate(at=Max("last"))["at"]
    if last is None:
        return trial.Outcome(
            False,
            False,
            "no call that was signed with it has been checked. Have the application sign with it "
            "and send one, then look again.",
        )
    return trial.Outcome(
        True, False, f"a call that was signed with it was accepted at {last:%H:%M} UTC."
    )


@transaction.atomic
def switch(by: Actor, replacement: Replacement) -> Replacement:
    """Let every connection hold the new one.

    Workloads that draw move with their next draw; tokens got with the old one serve on until they
    end.
    """
    replacement = _open(replacement)
    if replacement.switched is not None:
        return replacement
    if replacement.new is None or (replacement.overlaps and replacement.proven is None):
        raise Problem(
            409,
            "Prove the new one first.",
            "Nothing is switched to a credential that nobody has seen working.",
            code="new-credential-not-proven",
        )
    return _switch(by, replacement)


def _switch(by: Actor, replacement: Replacement) -> Replacement:
    assert replacement.new is not None
    held = connections_with_keys(replacement)
    replacement.before = {
        str(one.pk): {key: one.values.get(key, "") for key in replacement.values} for one, _ in held
    }
    for connection, key in held:
        _put(by, connection, key, replacement.new, replacement.values)
    _record_facts(by, replacement, replacement.values)
    Credential.objects.filter(pk=replacement.new.pk).update(state=Credential.State.ACTIVE)
    Credential.objects.filter(pk=replacement.old_id).update(state=Credential.State.RETIRING)
    replacement.switched = timezone.now()
    replacement.save()
    write(
        by,
        "switched its connections over from",
        "credential",
        replacement.old.hint,
        {"to": replacement.new.hint, "id": replacement.old_id},
    )
    return replacement


def _put(
    by: Actor, connection: Connection, key: str, credential: Credential, values: dict[str, str]
) -> None:
    connection = connections.locked(connection)
    HeldSecret.objects.filter(connection=connection, key=key).update(credential=credential)
    connection.values = {**connection.values, **values}
    connections.touched(connection, by, same_requests=key == SIGNING_SECRET)


def _record_facts(by: Actor, replacement: Replacement, values: dict[str, str]) -> None:
    """Note on the provider's side what it was just seen to know us by.

    Of a client of the house that stands there by itself.
    """
    client = replacement.old.client
    if client is None or client.house or not values:
        return
    facts = {key: value for key, value in values.items() if key != "certificate"}
    if values.get("certificate"):
        leaf = reading.read(values["certificate"].encode("ascii")).leaf()
        assert leaf is not None
        facts["thumbprint"] = of_certificate(leaf).sha256
    clients.record_facts(by, client, {"facts": facts})


@transaction.atomic
def roll_back(by: Actor, replacement: Replacement) -> Replacement:
    """Put the old one back, as long as it lives. A new one of the house is revoked."""
    replacement = _open(replacement)
    if replacement.made is not None and not exchanging.may_roll_back(standing(replacement)):
        raise Problem(
            409,
            "It cannot be rolled back any more.",
            (
                "The old one is no longer accepted. Replace the new one by another, if it does "
                "not serve."
            ),
            code="rollback-over",
        )
    now, was = (
        timezone.now(),
        {identity: credential for identity, _, credential in replacement.holders},
    )
    if replacement.switched is not None:
        for connection, key in connections_with_keys(replacement):
            before = replacement.before.get(str(connection.pk), {})
            _put(by, connection, key, Credential.objects.get(pk=was[str(connection.pk)]), before)
            _record_facts(by, replacement, before)
        Credential.objects.filter(pk=replacement.old_id).update(state=Credential.State.ACTIVE)
    new = replacement.new
    if new is not None:
        if new.digest:
            issuing.revoke(by, new, "its replacement was rolled back")
        else:
            Credential.objects.filter(pk=new.pk).update(
                state=Credential.State.RETIRED, revoked=now, why="its replacement was rolled back"
            )
    replacement.outcome = Replacement.Outcome.ROLLED_BACK
    replacement.save(update_fields=["outcome"])
    write(
        by,
        "rolled back the replacement of",
        "credential",
        replacement.old.hint,
        {"id": replacement.old_id},
    )
    return replacement


@transaction.atomic
def record_moved(by: Actor, replacement: Replacement, name: str, yes: bool) -> Replacement:
    """Record that a workload that holds the credential itself has been changed manually."""
    replacement = _open(replacement)
    known = {workload.name for workload in workloads_of(replacement) if not workload.draws}
    if name not in known:
        raise Problem(404, "There is no such workload to be moved.", code="workload-not-found")
    moved = {name for name in replacement.moved if name in known}
    replacement.moved = sorted(moved | {name} if yes else moved - {name})
    replacement.save(update_fields=["moved"])
    write(
        by,
        "recorded as moved" if yes else "recorded as not moved",
        "workload",
        name,
        {"credential": replacement.old.hint},
    )
    return replacement


# Watch, retire


@transaction.atomic
def retire(by: Actor, replacement: Replacement, anyway: bool = False) -> Replacement:
    """Retire the old one: the house revokes its own; elsewhere a person has revoked it there and
    says so. Refused while it is still in use, unless ``anyway``.
    """
    replacement = _open(replacement)
    if replacement.retired is not None:
        return replacement
    now = timezone.now()
    still, words = exchanging.quiet(standing(replacement), now)
    if replacement.switched is None or (not still and not anyway):
        raise Problem(409, "The old one may still be in use.", words, code="old-credential-in-use")
    old = replacement.old
    if old.digest:
        kept = old.open().reveal() if old.value is not None else None
        issuing.revoke(by, old, "replaced", "superseded")
        if kept is not None:  # until it has been proven that it is refused
            Credential.objects.filter(pk=old.pk).update(value=safe.seal(kept, old.sealed_place))
    else:
        Credential.objects.filter(
            pk__in=[old.pk, *(holder[2] for holder in replacement.holders)]
        ).update(state=Credential.State.RETIRED, revoked=now, why="replaced")
        write(by, "retired", "credential", old.hint, {"id": old.pk})
    replacement.retired = now
    replacement.save(update_fields=["retired"])
    return replacement


def prove_refused(by: Actor, replacement: Replacement) -> tuple[Replacement, trial.Outcome]:
    """Try the old one: it must be rejected.

    Then the replacement is done, and a value that the house kept for it is forgotten.
    """
    if replacement.retired is None:
        raise Problem(409, "Retire the old one first.", code="old-credential-not-retired")
    old = replacement.old
    why = issuing.state_of(old, "it is", timezone.now()) if old.digest else ""
    outcome = trial.Outcome(
        False, bool(why), f"no connection here held it; {why or 'it is still accepted'}."
    )
    signs = old.kind == SIGNING_SECRET
    if signs:
        outcome = trial.Outcome(
            False, not old.lives, "calls that are signed with it are rejected here."
        )
    for connection, key in [] if signs else connections_with_keys(replacement):
        if old.value is not None:
            outcome = trial.attempt(
                connection, {key: old}, replacement.before.get(str(connection.pk), {}), fresh=False
            )
        if not outcome.refused:
            break
    with transaction.atomic():
        replacement = _open(replacement)
        replacement.said = (
            f"It is still accepted ({outcome.says}). A revocation may take some seconds to be "
            f"seen there; try again."
            if outcome.passed
            else outcome.says
        )
        replacement.said = replacement.said[:400]
        if outcome.refused:
            replacement.refused, replacement.outcome = timezone.now(), Replacement.Outcome.DONE
            forget(Credential.objects.get(pk=old.pk))
            write(by, "proved refused", "credential", old.hint, {"id": old.pk})
        replacement.save(update_fields=["said", "refused", "outcome"])
    return replacement, outcome
