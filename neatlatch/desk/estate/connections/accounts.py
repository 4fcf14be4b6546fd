"""Shared or each their own: whose account a connection uses, who has connected theirs, and asking
people to.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import transaction
from django.db.models import Prefetch, Q
from django.utils import timezone

from neatlatch.core.names import other_account
from neatlatch.core.schemes import CODE
from neatlatch.desk.estate import reaches
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.connections.models import Account, Connection, TokenSet
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, check_unchanged, wrong_fields
from neatlatch.desk.ground.journal.services import DeclaredChange, write
from neatlatch.desk.ground.people import owners
from neatlatch.desk.ground.people.models import Person, Team

from . import halves, services, tokens


@dataclass(frozen=True)
class ConnectedAccount:
    """A person and the account that they have connected, or have not."""

    person: Person
    expected: str = ""
    account: str = ""
    connected_at: datetime | None = None
    ends: datetime | None = None
    renews: bool = False
    refused: str = ""
    asked_at: datetime | None = None
    asked_by: str = ""
    wrong: bool = False
    wanted: bool = True


def holdings(connection: Connection) -> list[ConnectedAccount]:
    """Everybody who should connect an account, or has: first who left or came with a wrong one,
    then who has not connected yet. The connection must have been fetched with everything.
    """
    wanted = {
        expected_person.pk: expected_person
        for expected_person in halves.expected_people(connection)
    }
    noted = {account.person_id: account for account in connection.accounts.all()}
    held = {
        token_set.person_id: token_set
        for token_set in connection.token_sets.all()
        if token_set.person is not None
    }
    people = wanted | {tokens.person_id: tokens.person for tokens in held.values() if tokens.person}
    found = [
        _connected_account(person, noted.get(person.pk), held.get(person.pk), person.pk in wanted)
        for person in people.values()
    ]
    return sorted(
        found,
        key=lambda account: (
            not (account.wrong or account.person.left),
            account.connected_at is not None,
            account.person.shown_name,
        ),
    )


def _connected_account(
    person: Person, noted: Account | None, held: TokenSet | None, wanted: bool
) -> ConnectedAccount:
    expected = noted.expected if noted else ""
    asked: dict[str, Any] = (
        {"asked_at": noted.asked_at, "asked_by": noted.asked_by} if noted else {}
    )
    if held is None:
        return ConnectedAccount(person, expected, wanted=wanted, **asked)
    wrong = other_account(expected, held.account)
    renews = held.refresh is not None and not held.refused
    return ConnectedAccount(
        person,
        expected,
        held.account,
        held.signed_in_at,
        held.ends,
        renews,
        held.refused,
        wrong=wrong,
        wanted=wanted,
        **asked,
    )


def may_connect(person: Person, connection: Connection) -> bool:
    """Whether a person may connect an account of their own here: they are of its team, or were
    asked.
    """
    return connection.individual and any(
        expected_person.pk == person.pk for expected_person in halves.expected_people(connection)
    )


# Connections that are told of one person.
_MOST_OF_ONE = 200


def of_person(person: Person) -> list[tuple[Connection, ConnectedAccount]]:
    """The connections where a person has, or should have, an account of their own, with their
    deployments and the tokens of theirs and of tests. Four queries.
    """
    theirs = Q(team__people=person) | Q(accounts__person=person) | Q(token_sets__person=person)
    keys = Connection.objects.filter(theirs, individual=True).order_by().values("pk")
    tokens = TokenSet.objects.filter(Q(person=None) | Q(person=person)).select_related("person")
    rows = (
        Connection.objects.filter(pk__in=keys)
        .select_related("deployment__application", "deployment__environment")
        .order_by("ref")
    )
    found = list(rows.prefetch_related(Prefetch("token_sets", tokens))[:_MOST_OF_ONE])
    noted = {
        account.connection_id: account
        for account in Account.objects.filter(person=person, connection__in=found)
    }
    teams = set(person.teams.values_list("pk", flat=True))
    told = []
    for row in found:
        held = next((each for each in row.token_sets.all() if each.person_id == person.pk), None)
        wanted = person.left is None and (row.team_id in teams or row.pk in noted)
        if wanted or held is not None:
            told.append((row, _connected_account(person, noted.get(row.pk), held, wanted)))
    return told


def at_deployment(
    deployment: Deployment, person: Person
) -> list[tuple[Connection, ConnectedAccount]]:
    """The connections of an application in an environment where each has an account of their own,
    with that of one person. Three queries.
    """
    rows = Connection.objects.filter(deployment=deployment, individual=True).order_by("ref")
    tokens = TokenSet.objects.filter(person=person).select_related("person")
    found = list(rows.prefetch_related(Prefetch("token_sets", tokens))[:_MOST_OF_ONE])
    noted = {
        account.connection_id: account
        for account in Account.objects.filter(person=person, connection__in=found)
    }
    return [
        (
            row,
            _connected_account(
                person, noted.get(row.pk), next(iter(row.token_sets.all()), None), row.pk in noted
            ),
        )
        for row in found
    ]


def share(
    by: Actor,
    connection: Connection,
    individual: bool,
    team: str | None,
    tests_as: str | None = None,
) -> Connection:
    """Let a connection have one shared account, or each person their own; and say which team it
    belongs to (``None``: stays, empty: none).

    ``tests_as`` is the service account that tests use where each has their own (``None``: stays,
    empty: none). Tokens that nothing would use any more are ended at the provider. Raises
    :class:`Problem`.
    """
    tests_as = connection.tests_as if tests_as is None else tests_as.strip()
    if not individual:
        tests_as = ""
    if individual and connection.scheme != CODE:
        raise wrong_fields(
            {"individual": "Only where people sign in can each have an account of their own."}
        )
    owner = None
    if team:
        owner = Team.objects.filter(name=team).first()
        if owner is None:
            raise wrong_fields({"team": "There is no such team."})
    if len(tests_as) > 200:
        raise wrong_fields({"tests_as": "An account's name has 200 characters at most."})
    if refused := refused_for_tests(connection, tests_as):
        raise wrong_fields({"tests_as": refused})
    revoked, seen = "none held", None
    if individual != connection.individual:
        revoked = tokens.revoke(connection)
    elif tests_as != connection.tests_as:
        revoked = tokens.revoke(connection, shared=True)
    else:
        seen = connection.version  # nothing was done at the provider that would have to be kept
    with transaction.atomic():
        connection = services.locked(connection)
        check_unchanged(connection.version, seen)
        if individual != connection.individual:
            tokens.drop(connection)
            connection.individual = individual
            connection.forget_health()
        elif tests_as != connection.tests_as:
            TokenSet.objects.filter(connection=connection, person=None).delete()
            connection.forget_health()
        connection.tests_as = tests_as
        if team is not None:
            connection.team = owner
        connection.version += 1
        connection.changed_at, connection.changed_by = timezone.now(), by.username
        connection.save()
        said = [f"account: {'each their own' if individual else 'one, shared'}"] + (
            [f"team: {team or 'none'}"] if team is not None else []
        )
        if individual:
            said.append(f"tests: {f'as {tests_as}' if tests_as else 'sign in only'}")
        write(
            by,
            "changed whose account it is",
            "connection",
            connection.ref,
            {
                "id": connection.pk,
                "version": connection.version,
                "changes": said,
                "tokens revoked there": revoked,
            },
        )
    return connection


def refused_for_tests(connection: Connection, account: str) -> str:
    """Why tests may not use this account, as far as it is known whose it is; empty: they may."""
    if not account:
        return ""
    whose = who_has(connection, account)
    if whose is None:
        asked = (
            Account.objects.filter(connection=connection)
            .exclude(expected="")
            .select_related("person")
        )
        whose = next(
            (one.person for one in asked if not other_account(one.expected, account)), None
        )
    return (
        f"That is the account of {whose.shown_name}. Tests do nothing in a person's name."
        if whose
        else ""
    )


def who_has(connection: Connection, account: str, but: Person | None = None) -> Person | None:
    """Who has connected this account as their own, as far as the provider told whose it is.

    ``but`` is somebody who is not asked about.
    """
    held = TokenSet.objects.filter(connection=connection, person__isnull=False).exclude(account="")
    if but is not None:
        held = held.exclude(person=but)
    same = (
        token_set
        for token_set in held.select_related("person")
        if not other_account(token_set.account, account)
    )
    return next((account.person for account in same), None)


@transaction.atomic
def ask(by: Actor, connection: Connection, person: Person, expected: str) -> Account:
    """Ask a person to connect an account of their own; ``expected`` is what it is called there, if
    that is known.
    """
    if not connection.individual:
        raise Problem(
            409,
            "This connection's account is shared.",
            "Let each person have their own first.",
            code="account-is-shared",
        )
    if person.left is not None or not person.is_active:
        raise wrong_fields({"username": f"{person.shown_name} cannot log in any more."})
    expected = expected.strip()
    if connection.tests_as and expected and not other_account(connection.tests_as, expected):
        raise wrong_fields(
            {"expected": "That is the service account that tests use here, and no person's."}
        )
    account, _ = Account.objects.get_or_create(connection=connection, person=person)
    account.expected = expected[:200] or account.expected
    account.asked_at, account.asked_by = timezone.now(), by.shown_name
    account.save()
    write(
        by,
        "asked to connect",
        "connection",
        connection.ref,
        {"person": person.username, "expected": account.expected},
    )
    return account


def disconnect(by: Actor, connection: Connection, person: Person, forget: bool = False) -> str:
    """End a person's tokens, at the provider too where it lets us, and forget them; ``forget``:
    that they were asked, too. Returns whether they were revoked there, in words.
    """
    return _end(by, connection, person, "disconnected an account", "", forget)


def end_tokens(by: Actor, connection: Connection, person: Person | None, why: str) -> str:
    """End the tokens that a connection holds, or those of one person, at the provider too where it
    lets us, and forget them. What needs no person gets new ones by itself. Returns in words whether
    they were revoked there.
    """
    if not TokenSet.objects.filter(connection=connection, person=person).exists():
        raise Problem(409, "It holds no token.", "Nothing was to be ended.", code="holds-no-token")
    return _end(by, connection, person, "ended the tokens of", why)


def _end(
    by: Actor,
    connection: Connection,
    person: Person | None,
    did: str,
    why: str,
    forget: bool = False,
) -> str:
    revoked = tokens.revoke(connection, person.pk if person else None, shared=person is None)
    with transaction.atomic():
        TokenSet.objects.filter(connection=connection, person=person).delete()
        if forget:
            Account.objects.filter(connection=connection, person=person).delete()
        about = {
            "person": person.username if person else "",
            "why": why,
            "tokens revoked there": revoked,
        }
        write(
            by,
            did,
            "connection",
            connection.ref,
            {key: value for key, value in about.items() if value},
        )
    return revoked


@transaction.atomic
def save_team(
    by: Actor,
    name: str,
    usernames: list[str],
    team: Team | None = None,
    declared_change: DeclaredChange | None = None,
) -> Team:
    """Make a team, or change its name and its people; ``declared_change``: how the journal tells of
    it.
    """
    name = name.strip()
    if not name:
        raise wrong_fields({"name": "What is the team called?"})
    if Team.objects.filter(name__iexact=name).exclude(pk=team.pk if team else 0).exists():
        raise wrong_fields({"name": "A team of this name is there already."})
    people = list(Person.objects.filter(username__in=usernames))
    if unknown := sorted(set(usernames) - {person.username for person in people}):
        raise wrong_fields({"people": f"Nobody has the login name {unknown[0]}."})
    if team is None:
        team = Team.objects.create(name=name[:120])
    reaches.renamed_team(team.name, name[:120])
    team.name = name[:120]
    team.save()
    owners.renamed_team(team)
    team.people.set(people)
    if declared_change is not None:
        declared_change.write(by, "team", team.name)
    else:
        write(
            by,
            "changed",
            "team",
            team.name,
            {"people": sorted(person.username for person in people)},
        )
    return team


@transaction.atomic
def remove_team(by: Actor, team: Team) -> None:
    """Take a team away; its connections then belong to none."""
    write(by, "removed", "team", team.name)
    owners.team_goes(team)
    team.delete()
