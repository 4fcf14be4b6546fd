"""What a person leaves behind: everything of theirs, and handing it over."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from django.db import transaction
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
from neatlatch.desk.estate.records.users.models import User
from neatlatch.desk.estate.users import services as users
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people import owners
from neatlatch.desk.ground.people import services as people
from neatlatch.desk.ground.people.models import Owner, Person

# States in which it matters to nobody whose a credential was.
_OVER = (Credential.State.RETIRED, Credential.State.REVOKED)


@dataclass(frozen=True)
class Belonging:
    """Something of a person's. ``act``: hand_over (to somebody else), disconnect, replace (a secret they know), look (a person must see to it). ``offer``: who
    might take it over, as :func:`owners.named` reads it."""

    key: str
    what: str
    name: str
    says: str
    address: str
    act: str
    production: bool = False
    offer: str = ""


def ways(person: Person) -> frozenset[str]:
    """How texts name the person: by name, login name, address, and by the accounts they have connected."""
    known = [person.email] if person.email else []
    known += list(Account.objects.filter(person=person).exclude(expected="").values_list("expected", flat=True))
    known += list(TokenSet.objects.filter(person=person).exclude(account="").values_list("account", flat=True))
    return names.ways_to_write(person.shown_name, person.username, known)


def belongings(person: Person) -> list[Belonging]:
    """Everything of a person's, in the order in which it hurts: accounts that work as them, what they own, secrets they have seen."""
    mine = ways(person)
    return [*_accounts(person, mine), *_grants(person), *_owned(person, mine), *_clients(mine), *_secrets(person)]


def _accounts(person: Person, mine: frozenset[str]) -> list[Belonging]:
    found = []
    sets = TokenSet.objects.select_related("connection__place__environment", "person").order_by("connection__ref")
    for one in sets:
        connection = one.connection
        address, production = f"/connections/{connection.ref}", connection.place.environment.production
        if one.person_id == person.pk:
            found.append(Belonging(f"tokens:{one.pk}", "account of their own", connection.ref,
                                   f"{connection.ref} acts as {one.account or person.shown_name} for them.", address, "disconnect", production))  # fmt: skip
        elif one.person_id is None and one.account and names.means(one.account, mine):
            found.append(Belonging(f"shared:{connection.ref}", "shared connection", connection.ref,
                                   f"{connection.ref} is signed in as {one.account}, a person's account, and stops when it is closed. Sign in with a service account.",
                                   address, "look", production))  # fmt: skip
    asked = (
        Account.objects.filter(person=person)
        .exclude(connection__token_sets__person=person)
        .select_related("connection__place__environment")
    )
    for account in asked:
        found.append(Belonging(f"asked:{account.pk}", "account asked for", account.connection.ref, f"They were asked to connect to {account.connection.ref}.",
                               f"/connections/{account.connection.ref}", "disconnect", account.connection.place.environment.production))  # fmt: skip
    return found


def _grants(person: Person) -> list[Belonging]:
    """What they allowed clients of the house to do in their name; it ends when they leave, renewed tokens too."""
    rows = Grant.objects.filter(person=person, revoked=None, refresh_tokens__ends__gt=timezone.now()).distinct().order_by("begun")
    return [
        Belonging(f"grant:{one.pk}", "sign-in at the house", one.client.name, f"{one.client.name} acts for them. That ends when they leave.",
                  f"/clients/{one.client_id}", "look", one.client.place.environment.production)
        for one in rows.select_related("client__place__environment")[:200]
    ]  # fmt: skip


def _owning(person: Person, mine: frozenset[str]) -> list[Owner]:
    """Who the person is as an owner: themselves, and contacts that are called as they are."""
    found = list(Owner.objects.filter(person=person))
    contacts = Owner.objects.filter(kind=Owner.Kind.CONTACT)
    return found + [one for one in contacts if names.means(one.name, mine)]


def _offered(person: Person, theirs: list[Owner]) -> str:
    """Who might take over what is a person's: their deputy, else their only team; empty: nobody."""
    deputy = next((one.deputy for one in theirs if one.deputy is not None), None)
    if deputy is not None:
        return owners.written([deputy])[deputy.pk]
    teams = [one.name for one in person.teams.all()[:2]]
    return teams[0] if len(teams) == 1 else ""


def _owned(person: Person, mine: frozenset[str]) -> list[Belonging]:
    theirs = _owning(person, mine)
    offer, found = _offered(person, theirs), []
    users_of = User.objects.filter(owner__in=theirs).select_related("environment")
    for user in users_of.prefetch_related("uses__connection"):
        refs = sorted({one.connection.ref for one in user.uses.all() if one.connection})
        uses = f" uses {', '.join(refs)}" if refs else " uses nothing yet"
        says = f"{user.name} in {user.environment.name}{uses}."
        production = user.environment.production
        address = f"/users/{user.pk}"
        found.append(Belonging(f"user:{user.pk}", user.kind, user.name, says, address, "hand_over", production, offer))
    for application in Application.objects.filter(owner__in=theirs):
        key, says = application.key, f"They own {application.name} here."
        address = f"/applications/{key}"
        found.append(Belonging(f"application:{key}", "application", application.name, says, address, "hand_over", False, offer))
    owned = Credential.objects.filter(owner__in=theirs).exclude(state__in=_OVER).defer("value")
    for one in owned.select_related("client__place__application", "client__place__environment"):
        where = f"{one.client.place.application.name}, {one.client.place.environment.name}" if one.client else "no application"
        production = bool(one.client and one.client.place.environment.production)
        says = f"{where}: they own this {one.kind.replace('_', ' ')}."
        address = f"/credentials/{one.pk}"
        found.append(Belonging(f"credential:{one.pk}", "credential", one.hint, says, address, "hand_over", production, offer))
    for owner in Owner.objects.filter(deputy__in=theirs):
        says = f"They are asked where {owner.name} cannot be."
        found.append(Belonging(f"deputy:{owner.pk}", "deputy", owner.name, says, f"/owners/{owner.pk}", "hand_over", False, offer))
    return found


def _clients(mine: frozenset[str]) -> list[Belonging]:
    found = []
    for client in Client.objects.select_related("place__application", "place__environment").order_by("name"):
        where = f"{client.place.application.name}, {client.place.environment.name}"
        address, production = f"/clients/{client.pk}", client.place.environment.production
        if client.account and names.means(client.account, mine):
            found.append(Belonging(f"account:{client.pk}", "key or password", client.name,
                                   f"{where}: it is given to {client.account}, a person's account, and ends with it. Have one made for a service account.",
                                   address, "look", production))  # fmt: skip
        if any(names.means(one, mine) for one in client.contacts):
            found.append(
                Belonging(
                    f"contact:{client.pk}",
                    "contact",
                    client.name,
                    f"{where}: they are its contact there.",
                    address,
                    "hand_over",
                    production,
                )
            )
    return found


def _secrets(person: Person) -> list[Belonging]:
    rows = Credential.objects.filter(put_in_by=person.username, state=Credential.State.ACTIVE, source="pasted").prefetch_related(
        "holders__connection__place__environment"
    )
    found = []
    for one in rows.defer("value"):
        holders = [each.connection for each in one.holders.all()]
        if holders:
            refs = ", ".join(sorted(each.ref for each in holders))
            found.append(Belonging(f"secret:{one.pk}", "secret they have seen", one.hint, f"They put it in for {refs}, so they have seen it.",
                                   f"/connections/{holders[0].ref}", "replace", any(each.place.environment.production for each in holders)))  # fmt: skip
    return found


def hand_over(by: Person, person: Person, to: Mapping[str, str]) -> int:
    """Hand what a person owns over: by the key of each thing to whom, as :func:`owners.named` reads
    it; each is a change of its own, because a contact may have to be changed at the application.
    Answers how many things. Raises field errors."""
    mine, done = ways(person), 0
    if not all(name.strip() for name in to.values()):
        raise wrong_fields({"to": "Who takes it over?"})
    if any(names.means(name, mine) or name == f"person/{person.username}" for name in to.values()):
        raise wrong_fields({"to": f"That is {person.shown_name}."})
    for key, name in to.items():
        done += _hand_over(by, mine, key, name)
    write(by, "handed over", "person", person.username, {"to": sorted(set(to.values())), "things": done})
    return done


def _hand_over(by: Person, mine: frozenset[str], key: str, name: str) -> bool:
    kind, _, identity = key.partition(":")
    if kind == "user":
        users.change(by, User.objects.get(pk=identity), {"owner": name})
    elif kind == "application":
        applications.change(by, Application.objects.get(key=identity), {"owner": name})
    elif kind == "credential":
        credentials.give(by, Credential.objects.get(pk=identity), name)
    elif kind == "deputy":
        owners.change(by, Owner.objects.get(pk=identity), {"deputy": name})
    elif kind == "contact":
        client = Client.objects.select_related("place__application", "place__environment").get(pk=identity)
        to = owners.named(name)
        known = to.mail or to.name if to is not None else name
        clients.change(by, client, clients.with_contacts([known if names.means(one, mine) else one for one in client.contacts]))
    else:
        return False
    return True


@transaction.atomic
def change(by: Actor, person: Person, role: str | None, active: bool | None) -> Person:
    """Change a role, or switch somebody's access on or off; with that goes what they allowed clients of the house. Raises field errors."""
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
        raise Problem(409, "You cannot do this to yourself.", "Ask another administrator.")
    Person.objects.filter(pk=person.pk).update(left=timezone.now())
    write(by, "left", "person", person.username)
    transaction.on_commit(lambda: _disconnect(by, person), robust=True)


def _disconnect(by: Actor, person: Person) -> None:
    """Disconnect their accounts, one after the other; one that is cut off can be done on its page."""
    theirs = Connection.objects.filter(token_sets__person=person).distinct()
    for one in theirs.select_related("place__application", "client"):
        accounts.disconnect(by, one, person, forget=True)
    Account.objects.filter(person=person).delete()
