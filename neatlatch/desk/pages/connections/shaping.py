"""Shaping what the API answers about connections; the schemas are in ``shapes``."""

from __future__ import annotations

from uuid import UUID

from django.utils import timezone

from neatlatch.core import breaks, health, pins
from neatlatch.core.addresses import joined_path
from neatlatch.core.evidence import Rung, curl_line
from neatlatch.core.pins import Pin
from neatlatch.core.schemes import CODE, KINDS, OAUTH2, SIGNING_SECRET, STREAM, Scheme
from neatlatch.core.scopes import closure, lacking
from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.connections import destinations, halves, naming, set_aside, sign_in
from neatlatch.desk.estate.connections.limits import limits_of_tests
from neatlatch.desk.estate.credentials import ends
from neatlatch.desk.estate.records.clients.models import Client, Kind
from neatlatch.desk.estate.records.connections.models import Connection, FormerName
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.pages.applications.shapes import environment_out, scheme_out, value_out
from neatlatch.desk.pages.connections.shapes import (
    ActOut,
    CertificateOut,
    ClientChoice,
    ConnectionRow,
    DueOut,
    FormerNameOut,
    GlyphOut,
    HeldSecretOut,
    PieceOut,
    PinOut,
    SchemeChoice,
    SetAsideOut,
    UsedBy,
)

from .shapes import ConnectionOut


def pin_out(pin: Pin) -> PinOut:
    """A pin as the page shows it."""
    marked = pin.marked
    return PinOut(
        key=pin.key,
        label=pin.label,
        fit=pin.fit.value,
        provider=pin.provider,
        caller=pin.caller,
        why=pin.why,
        provider_marked=[PieceOut(text=p.text, same=p.same) for p in marked.provider]
        if marked
        else [],
        caller_marked=[PieceOut(text=p.text, same=p.same) for p in marked.caller] if marked else [],
        acts=[ActOut(key=a.key, label=a.label, value=a.value) for a in pin.acts],
    )


def row(connection: Connection, worked_out: tuple[Pin, ...]) -> ConnectionRow:
    """A connection in the list."""
    application = connection.deployment.application
    return ConnectionRow(
        ref=connection.ref,
        application=application.key,
        application_name=application.name,
        environment=environment_out(connection.deployment.environment),
        state=connection.state,
        glyph=GlyphOut(fits=[pin.fit.value for pin in worked_out], says=pins.summary(worked_out)),
        latches=pins.latches(worked_out),
        failing=connection.failing,
        tested_at=connection.tested_at,
        workloads=len(connection.uses.all()),
        paused=connection.paused,
        tags=object_notes.tags_of(Connection, [connection.pk]).get(connection.pk, []),
    )


def _due(connection: Connection) -> list[DueOut]:
    held = connection.tokens
    found: list[DueOut] = []
    if held is not None:
        renews = (held.refresh is not None or connection.scheme != CODE) and not held.refused
        says = "renews itself" if renews else held.refused or "cannot be renewed"
        if connection.scheme != CODE and connection.failed_rung == Rung.SIGN_IN:
            # Each test asks for a new one; the one that is held was got before.
            says = "the last test got no other"
        found.append(
            DueOut(what="Access token", at=held.ends, says=says, act="" if renews else "sign_in")
        )
    scheme = KINDS[connection.scheme]
    for key, credential in connection.secrets().items():
        value = scheme.value(key.rpartition(".")[2])
        if credential.kind == "private_key":
            continue
        label = value.label if value else key.rpartition(".")[2].replace("_", " ").capitalize()
        found.append(
            DueOut(
                what=f"{label} {credential.hint}",
                at=credential.ends,
                says="" if credential.ends else "no expiry date known",
                act="put_secret",
                key=key,
                credential=_credential_without_end(credential),
            )
        )
    sight = (
        halves.certificate_sight(connection, timezone.now())
        if "certificate" in connection.values
        else None
    )
    if sight is not None:
        found.append(
            DueOut(what="Certificate chain", at=sight.ends, says="", act="put_certificate")
        )
    if connection.client is not None:
        found += [
            DueOut(what=f"Consent for {scope}", at=None, says="no expiry date")
            for scope in sorted(connection.client.consents)
            if scope in connection.scopes
        ]
    return found


def former_name_out(former: FormerName) -> FormerNameOut:
    """A name that a connection had, as the page shows it."""
    return FormerNameOut(
        name=former.name,
        changed_at=former.changed_at,
        changed_by=former.changed_by,
        used_at=former.used_at,
        used_by=former.used_by,
        ends=naming.ends(former),
    )


def full(connection: Connection, notes: dict[str, list[str]] | None = None) -> ConnectionOut:
    """A connection in full."""
    now = timezone.now()
    both = halves.halves(connection, now)
    worked_out = pins.work_out(both)
    profile = connection.deployment.application.read_profile()
    scheme = profile.scheme_for(connection.scheme)
    client, held = connection.client, connection.tokens
    lacks = _lacks(both)
    waiting = (
        connection.sign_ins.filter(ended=None, begun__gt=now - sign_in.LONGEST)
        .order_by("-begun")
        .values_list("begun", flat=True)
        .first()
    )
    soonest = breaks.next_break(halves.watched(connection, worked_out, now), now)
    call, limits = profile.harmless_call(), limits_of_tests(connection)
    choices = (
        Client.objects.filter(deployment__application=connection.deployment.application)
        .exclude(state="asking")
        .exclude(kind=Kind.RESOURCE_SERVER)
        .select_related("deployment__environment")
    )
    return ConnectionOut(
        **vars(row(connection, worked_out)),
        name=connection.name,
        former_names=[former_name_out(former) for former in connection.former_names.all()],
        scheme=scheme_out(scheme),
        values=connection.values,
        scopes=connection.scopes,
        pace=connection.pace,
        time_limit=connection.time_limit,
        version=connection.version,
        changed_at=connection.changed_at,
        changed_by=connection.changed_by,
        client=client.pk if client else None,
        managed=bool(client and client.managed),
        schemes=[SchemeChoice(key=scheme.key, label=scheme.label) for scheme in profile.schemes],
        slots=connection.slots,
        slot_values=[value_out(slot) for slot in profile.slots],
        secrets=_held_secrets(connection, scheme),
        certificate=_certificate(both),
        pins=[pin_out(pin) for pin in worked_out],
        workloads_of=[
            UsedBy(
                id=u.pk,
                workload=u.workload_id,
                name=u.name,
                kind=u.workload.kind,
                owner=u.owner_name,
                runs=u.workload.runs,
                operations=u.operations,
                lacks=lacks.get(u.name, []),
            )
            for u in connection.uses.all()
        ],
        due=_due(connection),
        individual=connection.individual,
        team=connection.team.name if connection.team else "",
        tests_as=connection.tests_as,
        tests_do=limits.says(),
        work_in_rounds=connection.work_in_rounds,
        test_interval=connection.test_interval,
        passes=connection.passes,
        passes_wanted=health.PASSES_WANTED,
        rounds_try_what_failed=limits.of_round().tries(connection.failed_rung),
        choices=[
            ClientChoice(
                id=c.pk,
                name=c.name,
                client_id=c.client_id or c.account or next(iter(c.facts.values()), ""),
                environment=c.deployment.environment.name,
            )
            for c in choices
        ],
        operations=[operation.name for operation in profile.operations],
        signs_person_in=connection.scheme == CODE,
        signs_calls=profile.signed_calls is not None,
        renewable=connection.scheme in OAUTH2
        and (not connection.individual)
        and (connection.scheme != CODE or bool(held and held.refresh)),
        signed_in=held is not None,
        curl=_curl(connection, scheme, call.method, call.path) if call else "",
        last_test=connection.tests.exclude(begun=None)
        .order_by("-made")
        .values_list("pk", flat=True)
        .first(),
        waiting_sign_in=waiting,
        next_break=soonest.why if soonest else "",
        notes=notes or {},
        set_aside=_set_aside(connection),
        uncleared=[destinations.move_out(move) for move in destinations.moves(connection)],
    )


def _set_aside(connection: Connection) -> SetAsideOut | None:
    row = set_aside.of(connection)
    return SetAsideOut(account=row.account, at=row.at, by=row.by) if row is not None else None


def _held_secrets(connection: Connection, scheme: Scheme) -> list[HeldSecretOut]:
    secrets = connection.secrets()
    found = []
    for value in scheme.secrets():
        one = secrets.get(value.key)
        found.append(
            HeldSecretOut(
                key=value.key,
                label=value.label,
                type=value.type,
                where=value.where,
                held=one.pk if one else None,
                hint=one.hint if one else "",
                ends=one.ends if one else None,
                put_in=one.issued if one else None,
                put_in_by=one.put_in_by if one else "",
                sent=value.key != SIGNING_SECRET,
                credential=_credential_without_end(one),
            )
        )
    return found


def _credential_without_end(credential: Credential | None) -> UUID | None:
    """The key of a credential whose end people have to say."""
    return credential.pk if credential is not None and not ends.told_by(credential) else None


def _certificate(both: pins.Halves) -> CertificateOut | None:
    sight = both.caller.certificate
    return (
        None
        if sight is None
        else CertificateOut(
            subject=sight.subject,
            sha256=sight.sha256,
            ends=sight.ends,
            verdict=sight.verdict,
            says=sight.says,
        )
    )


def _curl(connection: Connection, scheme: Scheme, method: str, path: str) -> str:
    if connection.scheme == STREAM:
        return ""
    address = joined_path(connection.values.get("api_base", ""), path)
    return curl_line(
        method,
        address,
        [("Accept", "application/json")],
        kind=connection.scheme,
        values=connection.values,
        settings=scheme.settings,
    )


def _lacks(both: pins.Halves) -> dict[str, list[str]]:
    permitted = (
        both.provider.rights
        if both.roles
        else both.caller.scopes & closure(both.provider.scopes, both.implies)
    )
    lacks: dict[str, list[str]] = {}
    for need in both.needs:
        for scope in sorted(lacking(permitted, need.alternatives, both.implies)):
            if scope not in lacks.setdefault(need.workload, []):
                lacks[need.workload].append(scope)
    return lacks
