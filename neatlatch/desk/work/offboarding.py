"""What a person leaves behind: everything of theirs, and handing it over."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import islice
from typing import TypeVar

from django.db import transaction
from django.db.models import Model, Q, QuerySet
from django.utils import timezone

from neatlatch.core import names
from neatlatch.desk.authority.house import tokens
from neatlatch.desk.authority.records.house.models import Grant
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import accounts
from neatlatch.desk.estate.credentials import owned as credentials
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Account, Connection, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people import owners
from neatlatch.desk.ground.people import services as people
from neatlatch.desk.ground.people.models import Owner, Person

M = TypeVar("M", bound=Model)
# States in which it matters to nobody whose a credential was.
_OVER = (Credential.State.RETIRED, Credential.State.REVOKED)


@dataclass(frozen=True)
class Belonging:
    """Something of a person's.

    ``act``: hand_over (to somebody else), disconnect, replace (a secret they know), look (a person
    must see to it). ``offer``: who might take it over, as :func:`owners.named` reads it.
    """

    key: str
    what: str
    name: str
    says: str
    address: str
    act: str
    production: bool = False
    offer: str = ""


def names_of(person: Person) -> frozenset[str]:
    """How texts name the person: by name, login name, address, and by the accounts they have
    connected.
    """
    known = [person.email] if person.email else []
    known += list(
        Account.objects.filter(person=person)
        .exclude(expected="")
        .values_list("expected", flat=True)
    )
    known += list(
        TokenSet.objects.filter(person=person).exclude(account="").values_list("account", flat=True)
    )
    return names.spellings(person.shown_name, person.username, known)


# Of each kind of thing, so many are told at once; what is beyond them comes when some have been
# seen to.
MOST = 100


@dataclass(frozen=True)
class Belongings:
    """What is a person's, in the order in which it hurts; ``more``: there is more of a kind than is
    told at once.
    """

    things: list[Belonging]
    more: bool


def belongings(person: Person, most: int | None = MOST) -> Belongings:
    """Everything of a person's: accounts that work as them, what they own, secrets they have seen;
    so many of each kind (``None``: all).
    """
    mine, told, more = names_of(person), [], False
    for kind in _kinds(person, mine):
        some = list(islice(kind, None if most is None else most + 1))
        told += some[:most]
        more = more or (most is not None and len(some) > most)
    return Belongings(told, more)


def _kinds(person: Person, mine: frozenset[str]) -> Iterator[Iterator[Belonging]]:
    theirs = _owning(person, mine)
    offer = _offered(person, theirs)
    yield _tokens(person)
    yield _shared(mine)
    yield _requested_accounts(person)
    yield _grants(person)
    yield _workloads(theirs, offer)
    yield _applications(theirs, offer)
    yield _credentials(theirs, offer)
    yield _deputies(theirs, offer)
    yield _clients_given_to(mine)
    yield _contacts(mine)
    yield _secrets(person)


def _read(rows: QuerySet[M]) -> Iterator[M]:
    return rows.iterator(chunk_size=MOST + 1)


def _like(field: str, mine: frozenset[str]) -> Q:
    """Rows whose text may mean the person: it has all words of a way to write them.

    :func:`names.means` says whether it does.
    """
    found = Q()
    for way in mine:
        words = Q()
        for word in way.split():
            if word.isascii():  # the database knows no other small letters
                words &= Q(**{f"{field}__icontains": word})
        if not words:
            return Q()
        found |= words
    return found


def _tokens(person: Person) -> Iterator[Belonging]:
    sets = (
        TokenSet.objects.filter(person=person)
        .select_related("connection__deployment__environment")
        .order_by("connection__ref")
    )
    for token_set in _read(sets):
        ref, production = (
            token_set.connection.ref,
            token_set.connection.deployment.environment.production,
        )
        says = f"{ref} acts as {token_set.account or person.shown_name} for them."
        yield Belonging(
            f"tokens:{token_set.pk}",
            "account of their own",
            ref,
            says,
            f"/connections/{ref}",
            "disconnect",
            production,
        )


def _shared(mine: frozenset[str]) -> Iterator[Belonging]:
    sets = TokenSet.objects.filter(_like("account", mine), person=None).exclude(account="")
    for one in _read(
        sets.select_related("connection__deployment__environment").order_by("connection__ref")
    ):
        if names.means(one.account, mine):
            ref, production = one.connection.ref, one.connection.deployment.environment.production
            says = (
                f"{ref} is signed in as {one.account}, a person's account, and stops when it is "
                f"closed. Sign in with a service account."
            )
            yield Belonging(
                f"shared:{ref}",
                "shared connection",
                ref,
                says,
                f"/connections/{ref}",
                "look",
                production,
            )


def _requested_accounts(person: Person) -> Iterator[Belonging]:
    asked = Account.objects.filter(person=person).exclude(connection__token_sets__person=person)
    for one in _read(
        asked.select_related("connection__deployment__environment").order_by("connection__ref")
    ):
        ref, production = one.connection.ref, one.connection.deployment.environment.production
        says = f"They were asked to connect to {ref}."
        yield Belonging(
            f"asked:{one.pk}",
            "account asked for",
            ref,
            says,
            f"/connections/{ref}",
            "disconnect",
            production,
        )


def _grants(person: Person) -> Iterator[Belonging]:
    """What they allowed clients of the house to do in their name; it ends when they leave, renewed
    tokens too.
    """
    rows = (
        Grant.objects.filter(person=person, revoked=None, refresh_tokens__ends__gt=timezone.now())
        .distinct()
        .order_by("begun")
    )
    for credential in _read(rows.select_related("client__deployment__environment")):
        name, production = (
            credential.client.name,
            credential.client.deployment.environment.production,
        )
        says = f"{name} acts for them. That ends when they leave."
        yield Belonging(
            f"grant:{credential.pk}",
            "sign-in at the house",
            name,
            says,
            f"/clients/{credential.client_id}",
            "look",
            production,
        )


def _owning(person: Person, mine: frozenset[str]) -> list[Owner]:
    """Who the person is as an owner: themselves, and contacts that are called as they are."""
    found = list(Owner.objects.filter(person=person))
    contacts = Owner.objects.filter(_like("name", mine), kind=Owner.Kind.CONTACT)
    return found + [contact for contact in contacts if names.means(contact.name, mine)]


def _offered(person: Person, theirs: list[Owner]) -> str:
    """Who might take over what is a person's: their deputy, else their only team; empty: nobody."""
    deputy = next((owner.deputy for owner in theirs if owner.deputy is not None), None)
    if deputy is not None:
        return owners.written([deputy])[deputy.pk]
    teams = [team.name for team in person.teams.all()[:2]]
    return teams[0] if len(teams) == 1 else ""


def _workloads(theirs: list[Owner], offer: str) -> Iterator[Belonging]:
    workloads_of = (
        Workload.objects.filter(owner__in=theirs)
        .select_related("environment")
        .order_by("name", "pk")
    )
    for workload in _read(workloads_of.prefetch_related("uses__connection")):
        refs = sorted({use.connection.ref for use in workload.uses.all() if use.connection})
        uses = f" uses {', '.join(refs)}" if refs else " uses nothing yet"
        says = f"{workload.name} in {workload.environment.name}{uses}."
        yield Belonging(
            f"workload:{workload.pk}",
            workload.kind,
            workload.name,
            says,
            f"/workloads/{workload.pk}",
            "hand_over",
            workload.environment.production,
            offer,
        )


def _applications(theirs: list[Owner], offer: str) -> Iterator[Belonging]:
    for application in _read(Application.objects.filter(owner__in=theirs).only("key", "name")):
        says = f"They own {application.name} here."
        yield Belonging(
            f"application:{application.key}",
            "application",
            application.name,
            says,
            f"/applications/{application.key}",
            "hand_over",
            False,
            offer,
        )


def _credentials(theirs: list[Owner], offer: str) -> Iterator[Belonging]:
    owned = (
        Credential.objects.filter(owner__in=theirs)
        .exclude(state__in=_OVER)
        .defer("value")
        .order_by("issued", "pk")
    )
    for one in _read(
        owned.select_related("client__deployment__application", "client__deployment__environment")
    ):
        where = (
            f"{one.client.deployment.application.name}, {one.client.deployment.environment.name}"
            if one.client
            else "no application"
        )
        production = bool(one.client and one.client.deployment.environment.production)
        says = f"{where}: they own this {one.kind.replace('_', ' ')}."
        yield Belonging(
            f"credential:{one.pk}",
            "credential",
            one.hint,
            says,
            f"/credentials/{one.pk}",
            "hand_over",
            production,
            offer,
        )


def _deputies(theirs: list[Owner], offer: str) -> Iterator[Belonging]:
    for owner in _read(Owner.objects.filter(deputy__in=theirs).order_by("name", "pk")):
        says = f"They are asked where {owner.name} cannot be."
        yield Belonging(
            f"deputy:{owner.pk}",
            "deputy",
            owner.name,
            says,
            f"/owners/{owner.pk}",
            "hand_over",
            False,
            offer,
        )


def _clients_with(text: Q) -> Iterator[tuple[Client, str]]:
    """Clients, and where they are registered."""
    rows = (
        Client.objects.filter(text)
        .select_related("deployment__application", "deployment__environment")
        .order_by("name", "pk")
    )
    for row in _read(rows):
        yield row, f"{row.deployment.application.name}, {row.deployment.environment.name}"


def _clients_given_to(mine: frozenset[str]) -> Iterator[Belonging]:
    for client, where in _clients_with(_like("account", mine) & ~Q(account="")):
        if names.means(client.account, mine):
            says = (
                f"{where}: it is given to {client.account}, a person's account, and ends with "
                f"it. Have one made for a service account."
            )
            address, production = f"/clients/{client.pk}", client.deployment.environment.production
            yield Belonging(
                f"account:{client.pk}",
                "key or password",
                client.name,
                says,
                address,
                "look",
                production,
            )


def _contacts(mine: frozenset[str]) -> Iterator[Belonging]:
    for client, where in _clients_with(_like("contacts", mine)):
        if any(names.means(contact, mine) for contact in client.contacts):
            says = f"{where}: they are its contact there."
            address, production = f"/clients/{client.pk}", client.deployment.environment.production
            yield Belonging(
                f"contact:{client.pk}",
                "contact",
                client.name,
                says,
                address,
                "hand_over",
                production,
            )


def _secrets(person: Person) -> Iterator[Belonging]:
    rows = Credential.objects.filter(
        put_in_by=person.username, state=Credential.State.ACTIVE, source="pasted"
    ).defer("value")
    held = rows.filter(holders__isnull=False).distinct().order_by("issued", "pk")
    for credential in _read(held.prefetch_related("holders__connection__deployment__environment")):
        holders = sorted(
            (each.connection for each in credential.holders.all()), key=lambda each: each.ref
        )
        production = any(each.deployment.environment.production for each in holders)
        says = (
            f"They put it in for {', '.join(each.ref for each in holders)}, so they have seen it."
        )
        yield Belonging(
            f"secret:{credential.pk}",
            "secret they have seen",
            credential.hint,
            says,
            f"/connections/{holders[0].ref}",
            "replace",
            production,
        )


def hand_over(by: Actor, person: Person, to: Mapping[str, str]) -> int:
    """Hand what a person owns over: by the key of each thing to whom, as :func:`owners.named` reads
    it; each is a change of its own, because a contact may have to be changed at the application.
    Returns how many things. Raises field errors."""
    mine, done = names_of(person), 0
    if not all(name.strip() for name in to.values()):
        raise wrong_fields({"to": "Who takes it over?"})
    if any(names.means(name, mine) or name == f"person/{person.username}" for name in to.values()):
        raise wrong_fields({"to": f"That is {person.shown_name}."})
    for key, name in to.items():
        done += _hand_over(by, mine, key, name)
    write(
        by,
        "handed over",
        "person",
        person.username,
        {"to": sorted(set(to.values())), "things": done},
    )
    return done


def _hand_over(by: Actor, mine: frozenset[str], key: str, name: str) -> bool:
    kind, _, identity = key.partition(":")
    if kind == "workload":
        workloads.change(by, Workload.objects.get(pk=identity), {"owner": name})
    elif kind == "application":
        applications.change(by, Application.objects.get(key=identity), {"owner": name})
    elif kind == "credential":
        credentials.give(by, Credential.objects.get(pk=identity), name)
    elif kind == "deputy":
        owners.change(by, Owner.objects.get(pk=identity), {"deputy": name})
    elif kind == "contact":
        client = Client.objects.select_related(
            "deployment__application", "deployment__environment"
        ).get(pk=identity)
        to = owners.named(name)
        known = to.mail or to.name if to is not None else name
        clients.change(
            by,
            client,
            clients.with_contacts(
                [known if names.means(contact, mine) else contact for contact in client.contacts]
            ),
        )
    else:
        return False
    return True


@transaction.atomic
def change(by: Actor, person: Person, role: str | None, active: bool | None) -> Person:
    """Change a role, or switch somebody's access on or off; with that goes what they allowed
    clients of the house. Raises field errors.
    """
    was = person.is_active
    person = people.change(by, person, role, active)
    if was and not person.is_active:
        tokens.end_those_of(by, person, "may not log in any more", timezone.now())
    return person


@transaction.atomic
def leave(by: Actor, person: Person) -> None:
    """A person leaves: they cannot log in any more, and what acted in their name at the house has
    ended. Once the surrounding transaction is over, every account of their own is disconnected, at
    the provider too where it lets us. Raises :class:`Problem`."""
    change(by, person, None, False)  # refused first where nobody else could do it
    if by == person:
        raise Problem(
            409,
            "You cannot do this to yourself.",
            "Ask another administrator.",
            code="not-to-yourself",
        )
    Person.objects.filter(pk=person.pk).update(left=timezone.now())
    write(by, "left", "person", person.username)
    transaction.on_commit(lambda: _disconnect(by, person), robust=True)


def _disconnect(by: Actor, person: Person) -> None:
    """Disconnect their accounts, one after the other; one that is cut off can be done
    on its page.
    """
    theirs = Connection.objects.filter(token_sets__person=person).distinct()
    for connection in theirs.select_related("deployment__application", "client"):
        accounts.disconnect(by, connection, person, forget=True)
    Account.objects.filter(person=person).delete()
