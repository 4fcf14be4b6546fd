"""The benches of a client: its redirect URIs against all callers, its scopes against all workloads,
and asking for consent.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any
from uuid import UUID

from django.db import transaction
from django.db.models.fields.json import KeyTextTransform
from django.utils import timezone

from neatlatch.core import redirect_bench, registration, scope_effects, scope_matrix
from neatlatch.core.pins import Need
from neatlatch.core.profiles import Profile, ScopeInfo
from neatlatch.core.redirect_bench import SentUri
from neatlatch.core.schemes import CODE, OAUTH2
from neatlatch.core.scope_effects import StoppedWorkload
from neatlatch.core.scope_matrix import Holder, Tally, WorkloadOf
from neatlatch.core.scopes import closure
from neatlatch.desk.estate.clients import services
from neatlatch.desk.estate.connections import blocks, destinations, halves, tokens
from neatlatch.desk.estate.records.clients.models import Client, ConsentRequest
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Use
from neatlatch.desk.ground.common import heavy
from neatlatch.desk.ground.common.actors import BY_LINK, Actor
from neatlatch.desk.ground.common.problems import Problem, check_unchanged, wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.wire.token_source import NoToken
from neatlatch.wire.transport import TransportError

LINK_LASTS = timedelta(days=14)


def connections_of(client: Client) -> list[Connection]:
    """The client's connections with everything, in a constant number of queries."""
    return list(halves.with_everything(Connection.objects.filter(client=client)).order_by("ref"))


# Redirect URIs


def sent_by(connections: list[Connection]) -> list[SentUri]:
    """What the callers send, of those that sign people in."""
    found = []
    for connection in connections:
        if connection.scheme == CODE:
            tokens = connection.tokens
            renews = tokens is not None and tokens.refresh is not None and not tokens.refused
            workloads = tuple(use.name for use in connection.uses.all())
            found.append(
                SentUri(
                    connection.ref,
                    connection.values.get("redirect_uri", ""),
                    workloads,
                    tokens is not None,
                    renews,
                )
            )
    return found


def bench(client: Client, connections: list[Connection]) -> redirect_bench.UriComparison:
    """All URIs of the client against all of its callers'."""
    return _uri_bench(client, sent_by(connections))


def _uri_bench(client: Client, sent: list[SentUri]) -> redirect_bench.UriComparison:
    return redirect_bench.work_out(
        tuple(client.redirect_uris), sent, "native" if client.native else "web"
    )


def uri_benches(clients: Sequence[Client]) -> list[redirect_bench.UriComparison]:
    """The bench of each of them, without who depends on what. One query for all."""
    sent: dict[UUID, list[SentUri]] = {}
    rows = Connection.objects.filter(
        client__in=[client.pk for client in clients], scheme=CODE
    ).order_by("ref")
    for client, ref, uri in rows.values_list(
        "client_id", "ref", KeyTextTransform("redirect_uri", "values")
    ):
        assert client is not None
        sent.setdefault(client, []).append(SentUri(ref, uri or ""))
    return [_uri_bench(client, sent.get(client.pk, [])) for client in clients]


def try_uri(client: Client, uri: str) -> redirect_bench.UriAnswer:
    """Whether the client's list holds a URI."""
    return redirect_bench.answer(
        tuple(client.redirect_uris), SentUri("", uri), "native" if client.native else "web"
    )


def effects(client: Client, wanted: list[str]) -> tuple[redirect_bench.UriEffect, ...]:
    """What a change of the registered URIs would stop and start."""
    return redirect_bench.effects(
        tuple(client.redirect_uris),
        tuple(wanted),
        sent_by(connections_of(client)),
        "native" if client.native else "web",
    )


@transaction.atomic
def plan(by: Actor, client: Client, wanted: list[str] | None) -> Client:
    """Begin a change that somebody enters manually in the application's screens (``None``: leave
    it). Raises :class:`Problem` where somebody changed it meanwhile.
    """
    seen = client.version if wanted is not None else None
    client = (
        Client.objects.select_for_update()
        .select_related("deployment__application", "deployment__environment")
        .get(pk=client.pk)
    )
    check_unchanged(client.version, seen)
    if client.managed:
        raise Problem(
            409,
            "This client is changed by protocol.",
            "Change it here; the application gets the change at once.",
            code="client-managed-by-protocol",
        )
    if wanted is not None:
        wanted = [text for text in dict.fromkeys(wanted) if text]
        if errors := registration.check(services.with_uris(wanted)(client.fields())):
            raise wrong_fields(errors)
        if wanted == client.redirect_uris:
            raise wrong_fields({"redirect_uris": "That is what the application has already."})
    client.planned = (
        None
        if wanted is None
        else {"redirect_uris": wanted, "by": by.username, "at": timezone.now().isoformat()}
    )
    client.ticks = [tick for tick in client.ticks if not tick.startswith("planned:")]
    client.save(update_fields=["planned", "ticks"])
    write(
        by,
        "planned a change" if wanted is not None else "left a planned change",
        "client",
        client.client_id or client.name,
        {"redirect_uris": wanted} if wanted is not None else {},
    )
    return client


def carry_out(by: Actor, client: Client) -> Client:
    """The planned change was entered there: the record says so from now on.

    Every act must have been ticked off.
    """
    open_ = [
        planned_act.says
        for planned_act in services.planned_acts(client)
        if planned_act.key not in client.ticks
    ]
    if not client.planned:
        raise Problem(
            409,
            "No change is planned.",
            "Somebody else may have recorded it as done. Reload the page.",
            code="no-change-planned",
        )
    if open_:
        raise Problem(
            409, "Not everything is ticked off yet.", f"Still open: {open_[0]}.", code="steps-left"
        )
    changed = services.change(by, client, services.with_uris(list(client.planned["redirect_uris"])))
    Client.objects.filter(pk=client.pk).update(
        planned=None, ticks=[tick for tick in client.ticks if not tick.startswith("planned:")]
    )
    changed.refresh_from_db(fields=["planned", "ticks"])
    return changed


# Scopes


Found = tuple[Profile, list[Connection], list[Any], scope_matrix.Matrix]


def matrix(client: Client) -> Found:
    """The client's scopes (or the roles of its account) against the workloads of its connections:
    profile, connections, uses in the order of the columns.
    """
    profile, connections = client.deployment.application.read_profile(), connections_of(client)
    known, permitted = _what_it_may(client, profile)
    holders, workloads, uses = _holders_and_workloads(
        client, connections, profile, lambda use: use.name
    )
    return profile, connections, uses, _worked_out(known, permitted, holders, workloads)


def _what_it_may(client: Client, profile: Profile) -> tuple[tuple[ScopeInfo, ...], frozenset[str]]:
    """The scopes that there are and those it is permitted; of an account, the roles."""
    if client.scheme in OAUTH2:
        return profile.scopes, frozenset(client.scopes)
    return profile.roles, frozenset(client.rights)


def _holders_and_workloads(
    client: Client, connections: list[Connection], profile: Profile, called: Callable[[Use], str]
) -> tuple[list[Holder], list[WorkloadOf], list[Use]]:
    """What its connections hold, and who calls what by them; ``called``: by which name."""
    with_scopes, permitted = client.scheme in OAUTH2, frozenset(client.rights)
    holders, workloads, uses = [], [], []
    for connection in connections:
        holders.append(
            _holder(client, connection) if with_scopes else Holder(connection.ref, permitted)
        )
        for use in connection.uses.all():
            operations = tuple(
                (name, found.alternatives)
                for name in use.operations
                if (found := profile.operation(name)) is not None
            )
            uses.append(use)
            workloads.append(WorkloadOf(called(use), connection.ref, operations))
    return holders, workloads, uses


@dataclass(frozen=True)
class ClientTally:
    """A client in the list of scopes: how many it is permitted, how many workloads call by it, and
    the counts of its matrix.
    """

    permitted: int
    workloads: int
    consents_missing: int
    counts: Tally


def tallies(clients: Sequence[Client]) -> list[ClientTally]:
    """What the list of scopes tells of each. Three queries for all."""
    connections = blocks.read_of_clients(client.pk for client in clients)
    return [_tally(client, connections.get(client.pk, [])) for client in clients]


def _tally(client: Client, connections: list[Connection]) -> ClientTally:
    profile = client.deployment.application.read_profile()
    known, permitted = _what_it_may(client, profile)
    holders, workloads, _ = _holders_and_workloads(
        client, connections, profile, lambda use: str(use.workload_id)
    )
    consents = [
        scope
        for scope in profile.scopes
        if scope.administrator and scope.name in client.scopes and scope.name not in client.consents
    ]
    return ClientTally(
        permitted=len(permitted),
        workloads=len(workloads),
        consents_missing=len(consents) if client.scheme in OAUTH2 else 0,
        counts=_counted(known, permitted, holders, workloads),
    )


# So many cells are worked out at once in the desk itself; more of them in a child, which takes
# longer to ask.
_FEW_CELLS = 20_000


def _in_a_child(known: Any, holders: Any, workloads: Any) -> bool:
    many = len(known) * (len(workloads) + len(holders)) > _FEW_CELLS
    return many and not transaction.get_connection().in_atomic_block


def _worked_out(
    known: Any, permitted: frozenset[str], holders: Any, workloads: Any
) -> scope_matrix.Matrix:
    if _in_a_child(known, holders, workloads):
        return heavy.run(scope_matrix.work_out, known, permitted, holders, workloads)
    return scope_matrix.work_out(known, permitted, holders, workloads)


def _counted(known: Any, permitted: frozenset[str], holders: Any, workloads: Any) -> Tally:
    if _in_a_child(known, holders, workloads):
        return heavy.run(scope_matrix.tally, known, permitted, holders, workloads)
    return scope_matrix.tally(known, permitted, holders, workloads)


def _holder(client: Client, connection: Connection) -> Holder:
    sets = [
        token_set
        for token_set in connection.token_sets.all()
        if (token_set.person_id is not None) == connection.individual
    ]
    made = [set_.signed_in_at if connection.scheme == CODE else set_.obtained for set_ in sets]
    moments = [
        moment
        for moment in (client.scopes_changed_at, connection.scopes_changed_at)
        if moment is not None
    ]
    granted = frozenset.intersection(*(frozenset(set_.granted) for set_ in sets)) if sets else None
    return Holder(
        connection.ref,
        frozenset(connection.scopes),
        granted,
        min(made, default=None),
        max(moments, default=None),
    )


@dataclass(frozen=True)
class ScopeEffect:
    """Whom a change of scopes stops at a connection, and what it would still ask for in vain."""

    ref: str
    workloads: tuple[StoppedWorkload, ...]
    asks_in_vain: tuple[str, ...] = ()


def effects_of_permitting(client: Client, wanted: Iterable[str]) -> list[ScopeEffect]:
    """Whom it stops when a client, or an account, may do this and no more."""
    profile, wanted, found = client.deployment.application.read_profile(), frozenset(wanted), []
    for connection in connections_of(client):
        if client.scheme not in OAUTH2:
            stopped = scope_effects.stopped_by(
                client.rights, wanted, _needs(connection, profile), profile.implies
            )
            found.append(ScopeEffect(connection.ref, stopped))
            continue
        asked = frozenset(connection.scopes)
        before, after = (asked & closure(some, profile.implies) for some in (client.scopes, wanted))
        stopped = scope_effects.stopped_by(
            before, after, _needs(connection, profile), profile.implies
        )
        found.append(ScopeEffect(connection.ref, stopped, tuple(sorted(before - after))))
    return [call for call in found if call.workloads or call.asks_in_vain]


def effects_of_asking(connection: Connection, wanted: Iterable[str]) -> list[ScopeEffect]:
    """Whom it stops when a connection asks for these scopes and no others."""
    profile = connection.deployment.application.read_profile()
    stopped = scope_effects.stopped_by(
        connection.scopes, wanted, _needs(connection, profile), profile.implies
    )
    return [ScopeEffect(connection.ref, stopped)] if stopped else []


def _needs(connection: Connection, profile: Profile) -> list[Need]:
    calls = [
        (use.name, name, profile.operation(name))
        for use in connection.uses.all()
        for name in use.operations
    ]
    return [
        Need(workload, name, operation.alternatives)
        for workload, name, operation in calls
        if operation is not None
    ]


# Consent


def needs_of(client: Client, scopes: list[str]) -> dict[str, list[str]]:
    """Why each scope is asked for: the workloads and operations that stop without it."""
    *_, found = matrix(client)
    reasons = {
        kept.scope: [f"{call.workload}: {call.operation}" for call in kept.needed_by]
        for kept in found.trim.kept
    }
    return {scope: reasons.get(scope, []) for scope in scopes}


@transaction.atomic
def ask_consent(by: Actor, client: Client, scopes: list[str], asked_of: str) -> ConsentRequest:
    """Ask an administrator of the application for consent, by a signed link."""
    profile = client.deployment.application.read_profile()
    wanted = sorted(set(scopes))
    for scope in wanted:
        known = profile.scope(scope)
        if known is None or not known.administrator:
            raise wrong_fields(
                {"scopes": f"{scope} is no scope that requires an administrator's consent."}
            )
    if not wanted:
        raise wrong_fields({"scopes": "Choose at least one scope."})
    now = timezone.now()
    request = ConsentRequest.objects.create(
        client=client,
        scopes=wanted,
        why=needs_of(client, wanted),
        asked_of=asked_of.strip()[:200],
        asked_by=by.shown_name,
        asked_at=now,
        ends=now + LINK_LASTS,
    )
    write(
        by,
        "asked for consent",
        "client",
        client.client_id or client.name,
        {"scopes": wanted, "of": request.asked_of},
    )
    return request


@transaction.atomic
def withdraw_request(by: Actor, request: ConsentRequest) -> ConsentRequest:
    """The link no longer serves."""
    request = ConsentRequest.objects.select_for_update().select_related("client").get(pk=request.pk)
    if request.answered_at is None and not request.withdrawn:
        request.withdrawn = True
        request.save(update_fields=["withdrawn"])
        write(
            by,
            "withdrew a request for consent",
            "client",
            request.client.client_id or request.client.name,
            {"scopes": request.scopes},
        )
    return request


def open_request(identity: str) -> ConsentRequest:
    """A request that a link was made for, if the link still serves; else a problem that says why
    not.
    """
    try:
        found = (
            ConsentRequest.objects.select_related(
                "client__deployment__application", "client__deployment__environment"
            )
            .filter(pk=UUID(identity))
            .first()
        )
    except ValueError:
        found = None
    if found is None or found.withdrawn:
        raise Problem(
            410, "This request was withdrawn.", "Nothing is left to do.", code="request-withdrawn"
        )
    return found


def answer(request: ConsentRequest, given: list[str], name: str, says: str) -> ConsentRequest:
    """An administrator of the application answers.

    What was consented to is noted on the client; it is proven when a test has needed it.
    """
    if not name.strip():
        raise wrong_fields({"name": "Give your name, so that they know who consented."})
    if unknown := [text for text in given if text not in request.scopes]:
        raise wrong_fields({"given": f"{unknown[0]} was not asked for."})
    with transaction.atomic():
        request = (
            ConsentRequest.objects.select_for_update().select_related("client").get(pk=request.pk)
        )
        if request.answered_at is not None:
            raise Problem(
                410,
                "This request was answered before.",
                f"{request.answered_by} answered it. A link serves once.",
                code="request-answered",
            )
        if request.withdrawn or request.ends <= timezone.now():
            raise Problem(
                410, "This link has expired.", "Ask its sender for a new one.", code="link-expired"
            )
        request.answered_at, request.given, request.answered_by, request.says = (
            timezone.now(),
            sorted(set(given)),
            name.strip()[:200],
            says.strip()[:600],
        )
        request.save()
        for scope in request.given:
            services.record_consent(
                BY_LINK, request.client, scope, True, told=f"{request.answered_by}, by link"
            )
        # Anyone who holds a link types a name: it stands in the details, and is nobody's log-in.
        write(
            BY_LINK,
            "answered a request for consent",
            "client",
            request.client.client_id or request.client.name,
            {
                "name given": request.answered_by,
                "given": request.given,
                "refused": [scope for scope in request.scopes if scope not in request.given],
                "says": request.says,
            },
        )
    return request


def new_token(by: Actor, connection: Connection) -> None:
    """Have a new token made in place of the one that is held.

    Raises :class:`Problem` where it is refused.
    """
    try:
        with destinations.transport_of(connection, 15.0) as transport:
            tokens.hold(connection, transport, force=True)
    except NoToken as error:
        raise Problem(
            502,
            "No new token came.",
            error.failure.detail or error.failure.code,
            code="no-new-token",
        ) from error
    except TransportError as error:
        raise Problem(
            502,
            "The application could not be reached.",
            f"{error.failure.detail} The old token is still held.",
            code="application-unreachable",
        ) from error
    write(by, "had a new token made", "connection", connection.ref)
