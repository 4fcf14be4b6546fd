"""Where what a connection holds is sent to, and the leave that somebody gives for a new place.

Anyone who can change an address could have every secret sent to a server of their own. So each
secret and each token carries the origins that it was cleared for: those of the connection it was
put in for. It goes nowhere else (:func:`transport_of`, and the transport itself checks again) until
somebody clears the new place with a fresh code of their second factor and a reason, which the
journal keeps as *revealed to*; or what is held is discarded.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, dataclass
from urllib.parse import unquote

from django.db import transaction
from django.http import HttpRequest

from neatlatch.core import destinations
from neatlatch.core.evidence import CauseClass, Failure
from neatlatch.core.schemes import SIGNING_SECRET, lower
from neatlatch.desk.estate.applications.following import keeps
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common import transports
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people import factors
from neatlatch.desk.ground.people.actors import person_who
from neatlatch.wire.transport import ClientCertificate, Transport, TransportError

from .halves import provider_addresses, published

# Addresses that are not the connection's own, but the application's: what is held is shown there
# only where that was cleared, and nothing stops without them.
_ASIDE = ("revocation_endpoint", "introspection_endpoint")
_LONGEST_REASON = 300


@dataclass(frozen=True)
class DestinationPermission:
    """Permission to send stored secrets to a new destination.

    ``reason`` is why; empty: it is discarded. Made by :func:`leave` alone, which has seen the
    second factor.
    """

    reason: str = ""


@dataclass(frozen=True)
class Move:
    """Something that a connection holds and that would go to origins it was not cleared for.

    ``hint`` tells which of its kind.
    """

    ref: str
    what: str
    hint: str
    cleared: frozenset[str]
    beyond: tuple[str, ...]
    held: Credential | TokenSet

    def __str__(self) -> str:
        named = f"{self.what}{f' {self.hint}' if self.hint else ''} of {self.ref}"
        return (
            f"{named} goes to {destinations.origins_in_words(self.cleared)} and would go to "
            f"{destinations.origins_in_words(self.beyond)}"
        )


def leave(by: Actor, code: str, reason: str, let_go: bool) -> DestinationPermission | None:
    """The leave that a person gives with a change, ``None`` where they say nothing.

    Call it before the change's transaction. Raises :class:`Problem`.
    """
    if let_go:
        return DestinationPermission()
    if not code.strip() and not reason.strip():
        return None
    if not reason.strip():
        raise wrong_fields({"reason": "Say why it may go there. It is in the journal."})
    factors.check(person_who(by), code, for_stored=True)
    return DestinationPermission(reason.strip()[:_LONGEST_REASON])


def permission_of(request: HttpRequest, by: Actor) -> DestinationPermission | None:
    """The leave in a request's header fields: ``Neatlatch-Code`` and ``Neatlatch-Reason``
    (percent-encoded UTF-8, RFC 3986 §2.1), or ``Neatlatch-Held: let-go``.

    Any change that would send what is held to a new place may carry them. Raises :class:`Problem`.
    """
    given = {
        name: request.headers.get(f"Neatlatch-{name}", "") for name in ("Code", "Reason", "Held")
    }
    if given["Held"] not in ("", "let-go"):
        raise Problem(
            422,
            "It is not known what to do with what is held.",
            "Neatlatch-Held says let-go, or is left out.",
            code="destination-decision-missing",
        )
    return leave(
        by, given["Code"], unquote(given["Reason"], errors="replace"), given["Held"] == "let-go"
    )


def of_deployment(
    deployment: Deployment, slots: dict[str, str] | None = None, client: Client | None = None
) -> frozenset[str]:
    """The origins of an application's own addresses in an environment: where a secret that it gave
    may go before anybody put it anywhere.
    """
    aside = (published(deployment, client, key, slots) for key in _ASIDE)
    return destinations.of_application(
        (
            *provider_addresses(deployment, slots or {}, client).values(),
            *deployment.by_key().values(),
            *aside,
        )
    )


def _aside(connection: Connection) -> frozenset[str]:
    return destinations.origins(
        published(connection.deployment, connection.client, key, connection.slots) for key in _ASIDE
    )


def _cleared(connection: Connection, held: Credential | TokenSet) -> frozenset[str]:
    return frozenset(held.sent_to) or of_deployment(
        connection.deployment, connection.slots, connection.client
    )


def _held_rows(connection: Connection) -> Iterable[tuple[str, str, str, Credential | TokenSet]]:
    """What is held: its key, what it is, which of its kind, and the row."""
    scheme = connection.read_scheme()
    for key, credential in connection.sent_secrets().items():
        value = scheme.value(key)
        yield (
            key,
            f"The {lower(value.label)}" if value else f"The {key}",
            credential.hint,
            credential,
        )
    for token_set in connection.token_sets.all():
        yield "", "The token", token_set.account, token_set


def moves(connection: Connection) -> list[Move]:
    """What is held and would go where it was not cleared for.

    The connection's secrets and tokens are read unless they were fetched before.
    """
    scheme, found = connection.read_scheme(), []
    for key, what, hint, held in _held_rows(connection):
        cleared = _cleared(connection, held)
        if beyond := destinations.beyond(
            destinations.of_secret(scheme, key, connection.values), cleared
        ):
            found.append(Move(connection.ref, what, hint, cleared, beyond, held))
    return found


def unsettled(connection: Connection) -> list[Move]:
    """:func:`moves` of a connection as it stands in the database.

    What nobody had put in anywhere before is from here on known to go where the application is.
    """
    rows = Connection.objects.select_related(
        "deployment__application", "deployment__environment", "client"
    )
    stands = rows.prefetch_related("held_secrets__credential", "token_sets").get(pk=connection.pk)
    found = moves(stands)
    for *_, held in _held_rows(stands):
        if not held.sent_to and all(move.held is not held for move in found):
            _send_to(held, _cleared(stands, held))
    return found


def settle(by: Actor, connection: Connection, leave: DestinationPermission | None) -> None:
    """After a change of a connection, in its transaction: nothing that is held goes to a new place
    without leave. Raises :class:`Problem`, and nothing is saved.
    """
    if not (found := unsettled(connection)):
        return
    if leave is None:
        raise asking(found)
    if leave.reason:
        _clear(by, connection, found, leave.reason)
    else:
        _let_go(by, connection, found)


class PermissionRequired(Problem):
    """That leave is asked for; ``moves`` is what would go where. Nothing was saved."""

    def __init__(self, title: str, detail: str, moves: list[Move]) -> None:
        super().__init__(
            409,
            title,
            detail,
            moves=[asdict(move_out(move)) for move in moves[:50]],
            code="destination-not-cleared",
        )
        self.moves = moves


def asking(moves_there: list[Move]) -> PermissionRequired:
    """That leave is asked for, for all of these at once."""
    words = ". ".join(str(move) for move in moves_there[:3]) + (
        f". And {len(moves_there) - 3} more" if len(moves_there) > 3 else ""
    )
    return PermissionRequired(
        "This would send what is held to another server.",
        (
            f"{words}. Nothing was saved. Give a code of your second factor and say why, or "
            f"discard what is held."
        ),
        moves_there,
    )


@dataclass(frozen=True)
class MoveOut:
    """Something that is held and would go where nobody cleared it for."""

    ref: str
    what: str
    hint: str
    goes_to: str
    would_go_to: str


def move_out(move: Move) -> MoveOut:
    """A move as the page shows it."""
    return MoveOut(
        ref=move.ref,
        what=move.what,
        hint=move.hint,
        goes_to=destinations.origins_in_words(move.cleared),
        would_go_to=destinations.origins_in_words(move.beyond),
    )


def _clear(by: Actor, connection: Connection, moves_there: list[Move], reason: str) -> None:
    for move in moves_there:
        _send_to(move.held, move.cleared | set(move.beyond))
    write(
        by,
        "revealed to",
        "connection",
        connection.ref,
        {
            "places": sorted({origin for move in moves_there for origin in move.beyond}),
            "what": [f"{move.what} {move.hint}".strip() for move in moves_there][:50],
            "reason": reason,
            "id": connection.pk,
        },
    )


def _let_go(by: Actor, connection: Connection, moves_there: list[Move]) -> None:
    for move in moves_there:
        if isinstance(move.held, TokenSet):
            move.held.delete()
        else:
            HeldSecret.objects.filter(connection=connection, credential=move.held).delete()
    write(
        by,
        "discarded what was held",
        "connection",
        connection.ref,
        {
            "what": [f"{move.what} {move.hint}".strip() for move in moves_there][:50],
            "would have gone to": sorted(
                {origin for move in moves_there for origin in move.beyond}
            ),
            "id": connection.pk,
        },
    )


def _send_to(held: Credential | TokenSet, origins: Iterable[str]) -> None:
    held.sent_to = sorted(origins)
    held.save(update_fields=["sent_to"])


def put_in_for(connection: Connection, key: str, credential: Credential) -> None:
    """Somebody who knows a secret put it in for a connection, in place of one that it may hold: it
    is cleared for where the connection sends it, and for anyone who draws the one before. Part of
    the surrounding transaction.
    """
    if key == SIGNING_SECRET:
        return  # it is sent nowhere, and nobody draws it
    own = destinations.of_secret(connection.read_scheme(), key, connection.values)
    before = (
        HeldSecret.objects.select_related("credential")
        .filter(connection=connection, key=key)
        .first()
    )
    credential.drawn_by = sorted(
        {*credential.drawn_by, *(before.credential.drawn_by if before is not None else ())}
    )
    credential.sent_to = sorted({*credential.sent_to, *own, *_aside(connection)})
    credential.save(update_fields=["drawn_by", "sent_to"])


def of_tokens(connection: Connection) -> list[str]:
    """What tokens that a connection is given now are cleared for."""
    return sorted(
        destinations.of_secret(connection.read_scheme(), "", connection.values) | _aside(connection)
    )


def follow(new: Credential, old: Credential) -> None:
    """A secret that takes another's place goes where that one does, and is drawn by anyone who drew
    that. Part of the surrounding transaction.
    """
    _send_to(new, {*new.sent_to, *old.sent_to})
    new.drawn_by = sorted({*new.drawn_by, *old.drawn_by})
    new.save(update_fields=["drawn_by"])


@keeps
def fix(deployment: Deployment) -> None:
    """Before an application's addresses change: what it gave and nobody has put in anywhere yet
    stays cleared for the addresses it has now.
    """
    Credential.objects.filter(client__deployment=deployment, sent_to=[]).exclude(
        fingerprint=""
    ).update(sent_to=sorted(of_deployment(deployment)))


def check(connection: Connection) -> None:
    """That all that is held may go where it would.

    Raises :class:`TransportError` that says what may not.
    """
    if found := moves(connection):
        says = f"{found[0]}. Clear it on the connection's page, or discard what is held."
        raise TransportError(Failure("setting", "not_cleared", CauseClass.CREDENTIAL, says))


def reachable(connection: Connection) -> frozenset[str]:
    """Where a connection's requests with what it holds may go: its own addresses, and those aside
    that everything held was cleared for.
    """
    scheme, held = connection.read_scheme(), list(_held_rows(connection))
    own: frozenset[str] = frozenset()
    for key in {"", *(key for key, *_ in held)}:
        own |= destinations.of_secret(scheme, key, connection.values)
    aside = _aside(connection)
    for key, _, _, one in held:
        if "." not in key:
            aside &= _cleared(connection, one)
    return own | aside


def transport_of(
    connection: Connection, total: float, shows: ClientCertificate | None = None
) -> Transport:
    """The transport of a connection; ``total`` is the time limit of a call in seconds, ``shows``
    the client certificate. Raises :class:`TransportError`.
    """
    check(connection)
    return transports.transport(total, shows, reachable(connection))


@transaction.atomic
def clear(by: Actor, connection: Connection, leave: DestinationPermission | None) -> None:
    """Clear where a connection sends what it holds, or discard that, without any other change.

    Raises :class:`Problem`.
    """
    settle(by, connection, leave)
