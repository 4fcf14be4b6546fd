"""Registering clients: by protocol where the application speaks it, else as a record of what was
entered manually.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import structlog
from django.db import transaction
from django.utils import timezone

from neatlatch.core import (
    addresses,
    changes,
    destinations,
    oauth2,
    preparing,
    profiles,
    redirect_bench,
    registration,
)
from neatlatch.core.authority import ceiling
from neatlatch.core.authority.refusing import RequestRefused
from neatlatch.core.intake.clean import clean
from neatlatch.core.registration import ClientMetadata
from neatlatch.core.schemes import JWT, JWT_GRANT, KINDS, OAUTH2, REGISTERED
from neatlatch.core.scopes import closure, lacking
from neatlatch.desk.estate.credentials.services import keep, new_handover
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client, Kind, OAuthClient, class_of
from neatlatch.desk.estate.records.credentials.models import Handover
from neatlatch.desk.ground import won
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.actors import Actor, Program
from neatlatch.desk.ground.common.problems import Problem, check_unchanged, wrong_fields
from neatlatch.desk.ground.common.transports import transport
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.actors import actor_of
from neatlatch.wire import oauth
from neatlatch.wire.transport import TransportError

log = structlog.get_logger()


def checked(fields: ClientMetadata) -> ClientMetadata:
    """The fields, or a problem that names what is wrong with them."""
    if errors := registration.check(fields):
        raise wrong_fields(errors)
    return fields


def register(
    by: Actor, deployment: Deployment, fields: ClientMetadata
) -> tuple[Client, str | None]:
    """Register by protocol (RFC 7591).

    Returns the client and the ID of its handover (``None``: a public client).

    The client is written down before the request goes out: if the answer is lost, what was asked
    for is still known.
    """
    checked(fields)
    endpoint = deployment.published("registration_endpoint")
    if not endpoint:
        raise Problem(
            409,
            "This application does not register clients by protocol.",
            "Register it manually; the steps are listed for you.",
            code="no-dynamic-registration",
        )
    with transaction.atomic():
        client = OAuthClient(
            deployment=deployment,
            state="asking",
            managed=True,
            changed_at=timezone.now(),
            changed_by=by.username,
        )
        client.put(fields)
        client.save(force_insert=True)
        write(
            by,
            "asked to register",
            "client",
            client.name,
            {"application": deployment.application.key, "environment": deployment.environment.name},
        )
    try:
        told = _ask(oauth2.registration_request(endpoint, fields.request()))
    except Problem as problem:
        with transaction.atomic():
            client.delete()
            write(by, "was refused", "client", fields.name, {"why": problem.detail})
        raise
    facts = {"client": str(client.pk), "answer": dict(told.reading.fields), "by": by.username}
    client, handover = won.keep("registration", f"client-{client.pk}", facts)
    return client, handover


@won.saves("registration")
def _save_registration(facts: won.Facts) -> tuple[Client, str | None]:
    """Save what a registration gave: the client as it was registered, its right of management, and
    its secret with a handover.
    """
    answer, by = facts["answer"], actor_of(facts["by"])
    secret = str(answer.get("client_secret") or "")
    with transaction.atomic():
        client = (
            Client.objects.select_for_update()
            .select_related("deployment__application")
            .get(pk=facts["client"])
        )
        if client.state != "asking":  # it was saved before
            handover = Handover.objects.filter(credential__client=client).order_by("made").first()
            return client, str(handover.pk) if handover else None
        client.put(registration.read_answer(answer, client.fields()))
        client.state, client.client_id, client.changed_at = (
            "live",
            str(answer["client_id"]),
            timezone.now(),
        )
        client.management_address = str(answer.get("registration_client_uri") or "")
        if token := answer.get("registration_access_token"):
            client.management_token = safe.seal(str(token), client.token_place)
        client.managed = bool(client.management_address and client.management_token)
        client.save()
        handover = None
        if secret:
            credential = keep(
                secret,
                client=client,
                source="registered",
                by=by.username,
                ends=registration.secret_end(answer),
            )
            handover = new_handover(by, credential)
        write(
            by,
            "registered",
            "client",
            client.client_id,
            {"name": client.name, "application": client.deployment.application.key},
        )
    return client, str(handover.pk) if handover else None


def ask_for_secret(client: Client, present: str) -> dict[str, Any]:
    """Ask the application for a new secret in the present one's place (RFC 7592 §2.2); returns its
    fields, which nobody has saved yet.

    Raises :class:`Problem` where it gives none.
    """
    if client.management_token is None:
        raise Problem(
            409,
            "Neat Latch has no registration access token for this client.",
            "Replace its secret manually there.",
            code="no-registration-access-token",
        )
    token = safe.unseal(client.management_token, client.token_place).reveal()
    fields = {**client.fields().request(), "client_id": client.client_id}
    answer = dict(
        _ask(
            oauth2.update_request(client.management_address, fields, token, present)
        ).reading.fields
    )
    if not answer.get("client_secret") or answer["client_secret"] == present:
        won.keep("management", f"client-{client.pk}", {"client": str(client.pk), "answer": answer})
        raise Problem(
            409,
            "The application gives no new secret by protocol.",
            "The old one stays as it is. Make the new one manually in its screens.",
            code="no-secret-by-protocol",
        )
    return answer


@won.saves("management")
def save_management(facts: won.Facts) -> None:
    """Save the right of management that an answer renewed; any answer may (RFC 7592 §3)."""
    if renewed := facts["answer"].get("registration_access_token"):
        for client in Client.objects.filter(pk=facts["client"]):
            Client.objects.filter(pk=client.pk).update(
                management_token=safe.seal(str(renewed), client.token_place)
            )


def _sent(request: oauth2.Request) -> oauth.OAuthReply:
    """Send a registration request. Raises :class:`Problem` where nobody answers.

    What it carries was given for this very address: by the application with it, or by the person
    who pasted it now.
    """
    with transport(goes_to=destinations.origins([request.url])) as opened:
        try:
            return oauth.ask(opened, "registration", request, timezone.now())
        except TransportError as error:
            raise Problem(
                502,
                "The application could not be reached.",
                f"{error.failure.detail} Nothing was changed here.",
                code="application-unreachable",
            ) from error


def _ask(request: oauth2.Request) -> oauth.OAuthReply:
    """Send a registration request; a refusal becomes a problem in plain words."""
    told = _sent(request)
    if not told.reading.ok and not (request.method == "DELETE" and told.exchange.status == 204):
        status, reading = told.exchange.status, told.reading
        if status == 401:
            raise Problem(
                502,
                "The application no longer accepts our registration access token.",
                (
                    "Its management token was revoked, or the client was removed there. Change "
                    "it manually in the application."
                ),
                code="management-refused",
            )
        detail = reading.description or reading.meaning[:1].upper() + reading.meaning[1:] + "."
        raise Problem(
            502,
            f"The application refused: {reading.error or status}.",
            detail,
            code="application-refused",
        )
    return told


@transaction.atomic
def prepare(
    by: Actor, deployment: Deployment, fields: ClientMetadata, vendor_shared: bool = False
) -> Client:
    """Begin a mirrored record: what is to be entered in the application's own screens, step by
    step.
    """
    checked(fields)
    client = OAuthClient(
        deployment=deployment,
        state="preparing",
        managed=False,
        vendor_shared=vendor_shared,
        changed_at=timezone.now(),
        changed_by=by.username,
    )
    client.put(fields)
    client.save(force_insert=True)
    write(
        by,
        "began manually",
        "client",
        client.name,
        {"application": deployment.application.key, "environment": deployment.environment.name},
    )
    return client


@transaction.atomic
def prepare_other(
    by: Actor,
    deployment: Deployment,
    name: str,
    scheme: str,
    scopes: frozenset[str] = frozenset(),
    vendor_shared: bool = False,
) -> Client:
    """Begin the record of a provider's side without an OAuth client of ours to register by
    protocol: an account, a key, a token, a certificate.
    """
    if deployment.application.read_profile().scheme(scheme) is None:
        raise wrong_fields({"scheme": "Choose one of this application's authentication schemes."})
    if not name:
        raise wrong_fields({"name": "Give it a name that the application's people will recognise."})
    client = class_of(scheme)(
        deployment=deployment,
        state="preparing",
        managed=False,
        vendor_shared=vendor_shared,
        scheme=scheme,
        name=name,
        changed_at=timezone.now(),
        changed_by=by.username,
        scopes=sorted(scopes),
        grants=[JWT_GRANT] if scheme == JWT else [],
    )
    client.save(force_insert=True)
    write(
        by,
        "began manually",
        "client",
        client.name,
        {
            "application": deployment.application.key,
            "environment": deployment.environment.name,
            "scheme": scheme,
        },
    )
    return client


def steps(client: Client) -> tuple[registration.RegistrationStep, ...]:
    """The numbered acts in the application's own screens: as its profile words them, else the usual
    ones of the scheme.
    """
    profile = client.deployment.application.read_profile()
    scheme = profile.scheme(client.scheme)
    wanted = frozenset(scope.name for scope in profile.scopes if scope.administrator)
    if client.scheme not in REGISTERED or (scheme is not None and scheme.acts):
        return preparing.steps(
            scheme or KINDS[client.scheme],
            client.deployment.application.name,
            client.name,
            frozenset(client.scopes),
            tuple(client.redirect_uris),
            client.facts.get("thumbprint", ""),
            _needed_rights(client, profile),
            wanted,
        )
    return registration.manual_steps(client.fields(), client.deployment.application.name, wanted)


def planned_acts(client: Client) -> tuple[registration.RegistrationStep, ...]:
    """A change that is under way, as numbered acts in the application's own screens."""
    if not client.planned:
        return ()
    return redirect_bench.acts(
        client.deployment.application.name,
        client.name,
        tuple(client.redirect_uris),
        tuple(client.planned["redirect_uris"]),
    )


def _needed_rights(client: Client, profile: profiles.Profile) -> tuple[str, ...]:
    """The fewest roles that the workloads of the client's connections need; the first of the
    profile while none is known.
    """
    operations = [
        profile.operation(name)
        for connection in client.connections.all()
        for use in connection.uses.all()
        for name in use.operations
    ]
    needed = {
        role
        for operation in operations
        if operation is not None
        for role in lacking((), operation.alternatives, profile.implies)
    }
    least = {
        role
        for role in needed
        if not any(role in closure({other}, profile.implies) for other in needed - {role})
    }
    return tuple(sorted(least)) or tuple(role.name for role in profile.roles[:1])


@transaction.atomic
def tick(by: Actor, client: Client, key: str, done: bool) -> Client:
    """Tick a step off, or take the tick away."""
    client = Client.objects.select_for_update().get(pk=client.pk)
    if key not in {step.key for step in (*steps(client), *planned_acts(client))}:
        raise wrong_fields({"key": "There is no such step."})
    ticks = [one for one in client.ticks if one != key] + ([key] if done else [])
    Client.objects.filter(pk=client.pk).update(ticks=ticks)
    client.ticks = ticks
    write(
        by,
        "marked a step done" if done else "marked a step not done",
        "client",
        client.client_id or client.name,
        {"step": key},
    )
    return client


@transaction.atomic
def enter_client_id(by: Actor, client: Client, pasted: str) -> tuple[Client, tuple[str, ...]]:
    """Enter the client ID that the application gave; returns what was cleaned."""
    cleaned = clean(pasted)
    if not cleaned.value:
        raise wrong_fields({"client_id": "Paste the client ID that the application shows."})
    client = _save(
        by,
        client,
        lambda filled: setattr(filled, "client_id", cleaned.value),
        "entered the client ID",
    )
    if client.state == "preparing":
        client.state = "live"
        client.save(update_fields=["state"])
    if "client_id" not in client.ticks:
        client = tick(by, client, "client_id", True)
    return client, cleaned.notes


def _save(
    by: Actor, client: Client, edit: Callable[[Client], None], did: str, seen: int | None = None
) -> Client:
    """Edit the client as it stands now, with a version of its own and an entry of the journal that
    tells in words what changed. ``seen``: the version that it must stand at.
    """
    client = (
        Client.objects.select_for_update()
        .select_related("deployment__application", "deployment__environment")
        .get(pk=client.pk)
    )
    check_unchanged(client.version, seen)
    before, scopes = as_plain(client), (client.scopes, client.consents)
    edit(client)
    if (client.scopes, client.consents) != scopes:
        client.scopes_changed_at = timezone.now()
    client.version += 1
    client.changed_at, client.changed_by = timezone.now(), by.username
    client.save()
    said = changes.in_words(before, as_plain(client))
    if said:
        provider_changed(client)
    write(
        by,
        did,
        "client",
        client.client_id or client.name,
        {"id": client.pk, "version": client.version, "changes": said},
    )
    return client


def provider_changed(client: Client) -> None:
    """Nobody has tried any of the client's connections since its half changed: of all of them at
    once.

    Part of the surrounding transaction.
    """
    untried = client.connections.model()
    untried.forget_health()
    client.connections.update(**{name: getattr(untried, name) for name in untried.HEALTH})


def as_plain(client: Client) -> changes.Plain:
    """A client's fields as changes of it are told."""
    return {
        "name": client.name,
        "contacts": client.contacts,
        "client ID": client.client_id,
        "redirect URIs": client.redirect_uris,
        "grants": client.grants,
        "scopes": client.scopes,
        "client sign-in": client.sign_in_method,
        "type": "public" if client.public else "confidential",
        "consent": sorted(client.consents),
        "facts": client.facts,
        "account": client.account,
        "whose account": client.account_kind,
        "rights": client.rights,
        "switches": client.switches,
        "allow-list": client.allow_list,
        "vendor's shared": client.vendor_shared,
    }


def check_editable(client: Client) -> None:
    """Refuse an edit of a program, whose rights are fixed. Raises :class:`Problem`."""
    if client.kind == Kind.PROGRAM:
        raise Problem(
            409,
            "What a program may do is fixed.",
            "Register another program with other rights, then decommission this one.",
            code="program-fixed",
        )


def change(by: Actor, client: Client, edit: Callable[[ClientMetadata], ClientMetadata]) -> Client:
    """Change a client's fields as they were read: at the provider first where it is managed (RFC
    7592 §2.2), then here. Raises :class:`Problem` where somebody changed it here meanwhile.

    For a mirrored client only the record changes: it says what a person changed, or will change, in
    the application's screens.
    """
    check_editable(client)
    wanted = checked(edit(client.fields()))
    if client.house:
        return put_fields(by, client, wanted)
    if not client.managed:
        with transaction.atomic():
            return _save(
                by, client, lambda record: record.put(wanted), "recorded a change", client.version
            )
    if client.management_token is None:
        raise Problem(
            409,
            "Neat Latch has no registration access token for this client.",
            (
                "It was brought in from a file. Register another client, or change this one "
                "manually there."
            ),
            code="no-registration-access-token",
        )
    token = safe.unseal(client.management_token, client.token_place).reveal()
    told = _ask(
        oauth2.update_request(
            client.management_address, {**wanted.request(), "client_id": client.client_id}, token
        )
    )
    answer = dict(told.reading.fields)
    facts = {
        "client": str(client.pk),
        "answer": answer,
        "by": by.username,
        "version": client.version,
        "wanted": wanted.request(),
    }
    saved: Client = won.keep("change", f"client-{client.pk}", facts)
    return saved


@won.saves("change")
def _save_change(facts: won.Facts) -> Client:
    """Save a change that the application has made, with the right of management that its answer may
    renew (RFC 7592 §3).
    """
    answer, by, client = (
        facts["answer"],
        actor_of(facts["by"]),
        Client.objects.get(pk=facts["client"]),
    )
    wanted = registration.read_answer(facts["wanted"], client.fields())
    with transaction.atomic():
        save_management(facts)
        if (
            client.fields() == registration.read_answer(answer, wanted)
            and client.version > facts["version"]
        ):
            return client  # it was saved before
        return _save(
            by,
            client,
            lambda record: record.put(registration.read_answer(answer, wanted)),
            "changed at the application",
        )


@transaction.atomic
def put_fields(by: Actor, client: Client, wanted: ClientMetadata) -> Client:
    """Change a client of the house: the record is the provider's side itself.

    By protocol (``by`` is no person) only within its ceiling, which an administrator's edit moves.
    Raises :class:`RequestRefused` beyond.
    """
    known = {scope.name for scope in client.deployment.application.read_profile().scopes}
    if unknown := sorted(wanted.scopes - known):
        raise wrong_fields(
            {"scopes": f"{client.deployment.application.name} has no scope {unknown[0]}."}
        )

    def edit(client: Client) -> None:
        allowed = ceiling.read(client.ceiling)
        if not isinstance(by, Program):
            client.ceiling = (
                allowed.after_edit(client.fields(), wanted).as_plain()
                if client.management_digest
                else {}
            )
        elif (field := allowed.beyond(wanted)) is not None:
            code = "invalid_redirect_uri" if field == "redirect_uris" else "invalid_client_metadata"
            raise RequestRefused(
                code,
                f"Of {field.replace('_', ' ')} it may have no more than an administrator left it",
                logged=f"{field} beyond its ceiling",
            )
        client.put(wanted)

    return _save(by, client, edit, "changed at the house authority", client.version)


def read_back(by: Actor, client: Client) -> Client:
    """Read a managed client as the provider holds it now, and take it over (RFC 7592 §2.1)."""
    if client.house:
        return client
    if not client.managed or client.management_token is None:
        raise Problem(
            409,
            "This client is a mirrored record.",
            "Compare it manually with the application's own screens.",
            code="client-is-mirrored",
        )
    told = _ask(
        oauth2.read_request(
            client.management_address,
            safe.unseal(client.management_token, client.token_place).reveal(),
        )
    )
    found = registration.read_answer(told.reading.fields, client.fields())
    if found == client.fields():
        return client
    with transaction.atomic():
        return _save(
            by, client, lambda record: record.put(found), "found changed at the application"
        )


@transaction.atomic
def record_consent(by: Actor, client: Client, scope: str, given: bool, told: str = "") -> Client:
    """Record that an administrator of the application consented to a scope, or withdrew it.

    ``told`` is the name that somebody without a login here gave.
    """
    if scope not in {scope.name for scope in client.deployment.application.read_profile().scopes}:
        raise wrong_fields({"scope": "There is no such scope."})

    def edit(client: Client) -> None:
        consents = {key: value for key, value in client.consents.items() if key != scope}
        client.consents = (
            {
                **consents,
                scope: {"who": told[:150] or by.username, "when": timezone.now().isoformat()},
            }
            if given
            else consents
        )

    return _save(by, client, edit, "recorded consent" if given else "noted consent withdrawn")


_NOTED = (
    "facts",
    "account",
    "account_kind",
    "rights",
    "switches",
    "allow_list",
    "vendor_shared",
    "name",
)


@transaction.atomic
def record_facts(by: Actor, client: Client, fields: dict[str, Any]) -> Client:
    """Record what the application's own screens show of us: names it knows us by, whose account it
    is, its rights, switches, allow-list.

    What is ``None`` is left as it was.
    """
    fields = {key: value for key, value in fields.items() if value is not None}
    errors: dict[str, str] = {}
    for network in fields.get("allow_list") or ():
        if not addresses.is_network(network):
            errors["allow_list"] = (
                f"“{network}” is neither an address nor a network like 203.0.113.40/29."
            )
    if fields.get("account_kind", "") not in ("", "service", "person"):
        errors["account_kind"] = "An account is a service account or a person's."
    known = {role.name for role in client.deployment.application.read_profile().roles}
    if unknown := [right for right in fields.get("rights") or () if right not in known]:
        errors["rights"] = f"{unknown[0]} is not one that the profile names."
    if errors:
        raise wrong_fields(errors)

    def edit(client: Client) -> None:
        if "rights" in fields and sorted(fields["rights"]) != sorted(client.rights):
            client.rights_changed_at = timezone.now()
        for field in _NOTED:
            if field == "facts" and "facts" in fields:
                client.facts = {
                    **client.facts,
                    **{key: clean(str(value)).value for key, value in fields["facts"].items()},
                }
            elif field in fields:
                setattr(client, field, fields[field])

    client = _save(by, client, edit, "recorded facts of")
    if client.state == "preparing" and client.scheme not in OAUTH2:
        client.state = "live"
        client.save(update_fields=["state"])
    return client


def remove(by: Actor, client: Client) -> None:
    """Remove a client: at the provider too where it is managed (RFC 7592 §2.3).

    Refused while a connection names it.
    """
    if workloads := list(client.connections.values_list("ref", flat=True)):
        raise Problem(
            409,
            "Connections use this client.",
            f"{', '.join(workloads)} would stop. Name another client there first.",
            code="client-in-use",
        )
    if client.managed and client.management_token is not None:
        _delete_by_protocol(client)
    with transaction.atomic():
        write(by, "removed", "client", client.client_id or client.name, {"managed": client.managed})
        client.delete()


def _delete_by_protocol(client: Client) -> None:
    assert client.management_token is not None
    token = safe.unseal(client.management_token, client.token_place).reveal()
    _ask(oauth2.delete_request(client.management_address, token))


def unregister(by: Actor, client: Client) -> None:
    """Delete a managed client at the application (RFC 7592 §2.3); what is known of it here stays.
    Raises :class:`Problem`.
    """
    _delete_by_protocol(client)
    write(by, "deleted at the application", "client", client.client_id or client.name)


def is_unregistered(client: Client) -> tuple[bool, bool, str]:
    """Whether a managed client still stands at the application, whether its registration is
    refused, and what was answered: a server that has deleted a client refuses its registration
    access token with 401 (RFC 7592 §2.1, §2.3). Raises :class:`Problem`.
    """
    assert client.management_token is not None
    token = safe.unseal(client.management_token, client.token_place).reveal()
    told = _sent(oauth2.read_request(client.management_address, token))
    status = told.exchange.status
    if told.reading.ok:
        return True, False, "The application still has this client."
    refused = status in (401, 403, 404)
    return False, refused, f"The application answered {status} to the client's registration."


def with_uris(uris: list[str]) -> Callable[[ClientMetadata], ClientMetadata]:
    """An edit that registers these redirect URIs and no others."""
    return lambda fields: replace(fields, redirect_uris=tuple(uris))


def with_contacts(contacts: list[str]) -> Callable[[ClientMetadata], ClientMetadata]:
    """An edit that names these contacts and no others."""
    return lambda fields: replace(fields, contacts=tuple(contacts))


def with_uri(uri: str) -> Callable[[ClientMetadata], ClientMetadata]:
    """An edit that registers one more redirect URI."""
    return lambda fields: replace(
        fields, redirect_uris=tuple(dict.fromkeys((*fields.redirect_uris, uri)))
    )


def with_scope(scope: str) -> Callable[[ClientMetadata], ClientMetadata]:
    """An edit that asks for one more scope."""
    return lambda fields: replace(fields, scopes=fields.scopes | {scope})


def with_grant(grant: str) -> Callable[[ClientMetadata], ClientMetadata]:
    """An edit that switches one more grant on."""
    return lambda fields: replace(fields, grants=tuple(dict.fromkeys((*fields.grants, grant))))
