"""Whose accounts connections use: shared or each their own, teams, who has connected, and what a
person leaves behind.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from django.db.models import Count
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import Router

from neatlatch.core import filter_words
from neatlatch.desk.authority.house import programs
from neatlatch.desk.estate.connections import account_links, accounts
from neatlatch.desk.estate.connections.limits import limits_of_tests
from neatlatch.desk.estate.lookups import find_connection, find_deployment, find_person
from neatlatch.desk.estate.records.connections.models import Account, Connection
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import filtering, problems
from neatlatch.desk.ground.common.actors import BEFORE_PROGRAMS, Actor, ProgramCaller
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.ground.people.models import Person, Team
from neatlatch.desk.pages.applications.shapes import EnvironmentOut, environment_out
from neatlatch.desk.pages.people.api import LimitsOut, limits_out
from neatlatch.desk.work import offboarding

from .shapes import ConnectionOut
from .shaping import full

router = Router(tags=["accounts"])
# People that are told of one connection.
_MOST_PEOPLE = 200


class SharingIn(RequestBody):
    """One shared account, or each person their own; the team it belongs to, and the service account
    that tests use (absent: stays, empty: none).
    """

    individual: bool
    team: str | None = None
    tests_as: str | None = None


@dataclass(frozen=True, kw_only=True)
class ConnectedAccountOut:
    """A person, and the account that they have connected."""

    username: str
    name: str
    expected: str
    account: str
    connected_at: datetime | None
    ends: datetime | None
    renews: bool
    refused: str
    wrong: bool
    wanted: bool
    left: bool
    asked_at: datetime | None
    asked_by: str
    link: str


class TokensEndIn(RequestBody):
    """Whose tokens, where each has their own (empty: the shared ones), and why."""

    username: str = ""
    why: str = ""


@dataclass(frozen=True, kw_only=True)
class TokensEnded:
    """Whether they were ended at the application, in words."""

    there: str


@dataclass(frozen=True, kw_only=True)
class AccountsOut:
    """Whose account a connection uses.

    ``people``: the first of those who should connect one or have, ``of_all`` of them in all,
    ``connected`` of whom have.
    """

    ref: str
    individual: bool
    team: str
    people: list[ConnectedAccountOut]
    of_all: int
    connected: int
    shared_account: str
    may_connect: bool
    # The service account that tests use, and when somebody signed in as it.
    tests_as: str
    tests_signed_in_at: datetime | None


class AccountAskIn(RequestBody):
    """Somebody to ask, and what their account is called there (empty: not known)."""

    username: str
    expected: str = ""


@dataclass(frozen=True, kw_only=True)
class MineOut(ConnectedAccountOut):
    """A connection where I have, or should have, an account of my own."""

    ref: str
    application: str
    environment: EnvironmentOut
    purpose: str
    # What tests do with my account, in words.
    tests_do: str


class TeamIn(RequestBody):
    """A team's name and the login names of its people."""

    name: str
    people: list[str] = []


@dataclass(frozen=True, kw_only=True)
class MemberOut:
    """Somebody of a team."""

    username: str
    name: str


@dataclass(frozen=True, kw_only=True)
class TeamOut:
    """A team, and how many connections belong to it."""

    id: int
    name: str
    people: list[MemberOut]
    connections: int


@dataclass(frozen=True, kw_only=True)
class Teams:
    """A page of teams."""

    items: list[TeamOut]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class ConnectLinkOut:
    """What a signed link asks a person to do."""

    ref: str
    application: str
    environment: str
    person: str
    username: str
    expected: str
    asked_by: str
    connected_as: str
    serves: bool
    # Where a program has the person go on to once they are connected, and if they are not; empty:
    # nowhere.
    goes_on_to: str
    goes_back_to: str


@dataclass(frozen=True, kw_only=True)
class BelongingOut:
    """Something of a person's, and the act that sees to it."""

    key: str
    what: str
    name: str
    says: str
    address: str
    act: str
    production: bool
    # Who might take it over; empty: nobody is known.
    offer: str


@dataclass(frozen=True, kw_only=True)
class BelongingsOut:
    """Everything of a person's."""

    username: str
    name: str
    role: str
    active: bool
    left: datetime | None
    teams: list[str]
    things: list[BelongingOut]
    # There is more of a kind than is told at once.
    more: bool
    limits: LimitsOut


class HandOverIn(RequestBody):
    """Who takes over, and which of the things; ``each``: by a thing's key who takes that."""

    to: str = ""
    keys: list[str] = []
    each: dict[str, str] = {}


def _connected_account(holding: accounts.ConnectedAccount, link: str = "") -> ConnectedAccountOut:
    return ConnectedAccountOut(
        username=holding.person.username,
        name=holding.person.shown_name,
        expected=holding.expected,
        account=holding.account,
        connected_at=holding.connected_at,
        ends=holding.ends,
        renews=holding.renews,
        refused=holding.refused,
        wrong=holding.wrong,
        wanted=holding.wanted,
        left=holding.person.left is not None,
        asked_at=holding.asked_at,
        asked_by=holding.asked_by,
        link=link,
    )


def _accounts(by: Actor, ref: str) -> AccountsOut:
    connection = find_connection(ref)
    shown = guard.may(by, "change")
    asked = {
        account.person_id: account
        for account in connection.accounts.all()
        if account.asked_at is not None
    }
    found = accounts.holdings(connection) if connection.individual else []
    people = [
        _connected_account(
            holding,
            account_links.address(asked[holding.person.pk])
            if shown and holding.person.pk in asked and holding.connected_at is None
            else "",
        )
        for holding in found[:_MOST_PEOPLE]
    ]
    held, tests = connection.tokens, connection.tests_tokens
    return AccountsOut(
        ref=ref,
        tests_as=connection.tests_as,
        tests_signed_in_at=tests.signed_in_at if tests else None,
        individual=connection.individual,
        team=connection.team.name if connection.team else "",
        people=people,
        of_all=len(found),
        connected=sum(holding.connected_at is not None for holding in found),
        shared_account=held.account if held and (not connection.individual) else "",
        may_connect=isinstance(by, Person) and accounts.may_connect(by, connection),
    )


@router.get("/connections/{ref:ref}/accounts", response=AccountsOut)
def of_connection(request: HttpRequest, ref: str) -> AccountsOut:
    """Whose account it uses: who has connected theirs, who has not, whose tokens end."""
    return _accounts(guard.need(request, "look"), ref)


@router.put("/connections/{ref:ref}/sharing", response=ConnectionOut)
def share(request: HttpRequest, ref: str, body: SharingIn) -> ConnectionOut:
    """One shared account, or each person their own."""
    by, found = guard.need(request, "change"), find_connection(ref)
    guard.check_version(request, found.version, found.changed_by, ("connection", found.pk))
    accounts.share(by, found, body.individual, body.team, body.tests_as)
    return full(find_connection(ref))


def _person(username: str) -> Person:
    found = Person.objects.filter(username=username).first()
    if found is None:
        raise wrong_fields({"username": "Nobody has this login name."})
    return found


@router.post("/connections/{ref:ref}/accounts", response=AccountsOut)
def ask(request: HttpRequest, ref: str, body: AccountAskIn) -> AccountsOut:
    """Ask a person to connect an account of their own; their line then has the signed link to send
    them.
    """
    by = guard.need(request, "change")
    accounts.ask(by, find_connection(ref), _person(body.username), body.expected)
    return _accounts(by, ref)


@router.delete("/connections/{ref:ref}/accounts/{username}", response=AccountsOut)
def disconnect(request: HttpRequest, ref: str, username: str, forget: bool = False) -> AccountsOut:
    """Disconnect a person's account: their own, or anybody's for an administrator.

    ``forget``: that they were asked, too.
    """
    me, person = guard.person_of(request), _person(username)
    mine = me.pk == person.pk
    by = guard.need(request, "look" if mine else "change")
    accounts.disconnect(by, find_connection(ref), person, forget and not mine)
    return _accounts(by, ref)


@router.post("/connections/{ref:ref}/token-revocations", response=TokensEnded)
def end_tokens(request: HttpRequest, ref: str, body: TokensEndIn) -> TokensEnded:
    """End the tokens that a connection holds, or one person's, at the application too where it has
    an address for that (RFC 7009).
    """
    by = guard.need(request, "change")
    person = _person(body.username) if body.username else None
    return TokensEnded(
        there=accounts.end_tokens(by, find_connection(ref), person, body.why.strip()[:200])
    )


@router.get("/accounts", response=list[MineOut])
def mine(request: HttpRequest) -> list[MineOut]:
    """The connections where I have, or should have, an account of my own."""
    by = guard.need_person(request, "look")
    return [
        MineOut(
            **vars(_connected_account(held)),
            ref=one.ref,
            application=one.deployment.application.name,
            environment=environment_out(one.deployment.environment),
            purpose=one.deployment.application.purpose,
            tests_do=limits_of_tests(one).says_to_its_people(one.tests_as),
        )
        for one, held in accounts.of_person(by)
    ]


def _asker_in_words(name: str) -> str:
    """Who asked, for somebody who does not know how programs are called here."""
    program = name.removeprefix(BEFORE_PROGRAMS)
    return name if program == name else f"The program {program}"


@router.get("/links/accounts/{token}", auth=None, response=ConnectLinkOut)
def connect_link(request: HttpRequest, response: HttpResponse, token: str) -> ConnectLinkOut:
    """Whom a signed link asks to connect which account.

    It lets nobody in: the person logs in first.
    """
    response["Cache-Control"] = "no-store"
    link = account_links.opened(token, timezone.now())
    found = (
        Account.objects.select_related(
            "person", "connection__deployment__application", "connection__deployment__environment"
        )
        .filter(pk=link.account)
        .first()
    )
    if found is None or found.person.left is not None:
        raise Problem(
            410, "This request was withdrawn.", "Nothing is left to do.", code="request-withdrawn"
        )
    connection = found.connection
    held = connection.token_sets.filter(person=found.person).first()
    return ConnectLinkOut(
        ref=connection.ref,
        application=connection.deployment.application.name,
        environment=connection.deployment.environment.name,
        person=found.person.shown_name,
        username=found.person.username,
        expected=found.expected,
        asked_by=_asker_in_words(found.asked_by),
        connected_as=held.account or "an account" if held else "",
        serves=connection.individual,
        goes_on_to=link.goes_on_to(connected=True),
        goes_back_to=link.goes_on_to(connected=False),
    )


# Programs whose people connect accounts


@dataclass(frozen=True, kw_only=True)
class AccountStatus:
    """Whether a person has connected an account of their own at a connection."""

    ref: str
    connected: bool
    # What it is called there; empty: nobody knows.
    account: str
    connected_at: datetime | None
    # When its token ends, and whether that is renewed by itself.
    ends: datetime | None
    renews: bool
    # It is another account than the expected one.
    wrong: bool
    asked_at: datetime | None


@dataclass(frozen=True, kw_only=True)
class AccountStatuses:
    """Whether a person is connected to an application in an environment: by any of the connections
    there where each has an account of their own.
    """

    person: str
    application: str
    environment: str
    connected: bool
    connections: list[AccountStatus]


@router.get("/account-statuses", response=AccountStatuses)
def statuses(
    request: HttpRequest, person: str, application: str, environment: str
) -> AccountStatuses:
    """Whether a person, by login name, is connected to an application in an environment."""
    guard.need(request, "look")
    deployment, who = find_deployment(application, environment), _person_of(person)
    found = [
        AccountStatus(
            ref=connection.ref,
            connected=held.connected_at is not None and not held.refused and not held.wrong,
            account=held.account,
            connected_at=held.connected_at,
            ends=held.ends,
            renews=held.renews,
            wrong=held.wrong,
            asked_at=held.asked_at,
        )
        for connection, held in accounts.at_deployment(deployment, who)
    ]
    return AccountStatuses(
        person=who.username,
        application=application,
        environment=environment,
        connected=any(status.connected for status in found),
        connections=found,
    )


def _person_of(username: str) -> Person:
    found = Person.objects.filter(username=username).first()
    if found is None:
        raise problems.not_found("person")
    return found


class AccountLinkIn(RequestBody):
    """Whom to send to connect an account at which connection, and where they go on to: one of the
    program's return addresses, with ``state`` and ``connected`` added to its query.
    """

    person: str
    connection: str
    back: str
    state: str = ""


@dataclass(frozen=True, kw_only=True)
class AccountLinkOut:
    """The address to send the person to, and when it ends."""

    address: str
    ends: datetime


@router.post("/account-links", response={201: AccountLinkOut})
def link(
    request: HttpRequest, response: HttpResponse, body: AccountLinkIn
) -> tuple[int, AccountLinkOut]:
    """Make a signed link by which a person connects an account of their own, and goes back to the
    program that sent them. Only programs do this.
    """
    by = guard.need(request, "test")
    if not isinstance(by, ProgramCaller):
        raise Problem(
            403,
            "Only a program can do this.",
            "Ask the person on the connection's page, under “Whose account”.",
            code="program-required",
        )
    if not programs.may_return_to(by, body.back):
        raise wrong_fields(
            {"back": "It is not among the return addresses of this program, as it is written."}
        )
    now, connection = timezone.now(), find_connection(body.connection)
    asked = accounts.ask(by, connection, _person(body.person), "")
    response["Cache-Control"] = "no-store"
    return 201, AccountLinkOut(
        address=account_links.address_with_return(asked, body.back, body.state, now),
        ends=now + account_links.LIFE,
    )


# Teams


_TEAMS = 20


def _team(team: Team, connections: int) -> TeamOut:
    people = sorted(team.people.all(), key=lambda each: each.username)
    return TeamOut(
        id=team.pk,
        name=team.name,
        people=[MemberOut(username=each.username, name=each.shown_name) for each in people],
        connections=connections,
    )


def _saved(team: Team) -> TeamOut:
    return _team(team, team.connections.count())


@router.get("/teams", response=Teams)
def teams(request: HttpRequest, cursor: str | None = None, words: str = "") -> Teams:
    """Teams by name; filtered by plain words."""
    guard.need(request, "look")
    rows = filtering.apply(
        Team.objects.all(), filter_words.read(words, {}), {}, ("name__icontains",)
    )
    found, following = page(rows.prefetch_related("people"), "name", cursor, _TEAMS)
    counts = dict(
        Connection.objects.filter(team__in=found)
        .order_by()
        .values("team")
        .annotate(many=Count("pk"))
        .values_list("team_id", "many")
    )
    return Teams(items=[_team(team, counts.get(team.pk, 0)) for team in found], next=following)


@router.post("/teams", response={201: TeamOut})
def add_team(request: HttpRequest, body: TeamIn) -> tuple[int, TeamOut]:
    """Make a team."""
    return 201, _saved(accounts.save_team(guard.need(request, "change"), body.name, body.people))


def _find_team(identity: int) -> Team:
    found = Team.objects.filter(pk=identity).first() if identity < 2**63 else None
    if found is None:
        raise problems.not_found("team")
    return found


@router.put("/teams/{identity}", response=TeamOut)
def change_team(request: HttpRequest, identity: int, body: TeamIn) -> TeamOut:
    """Change a team's name and people."""
    by = guard.need(request, "change")
    return _saved(accounts.save_team(by, body.name, body.people, _find_team(identity)))


@router.delete("/teams/{identity}", response={204: None})
def remove_team(request: HttpRequest, identity: int) -> tuple[int, None]:
    """Take a team away."""
    accounts.remove_team(guard.need(request, "change"), _find_team(identity))
    return 204, None


# Leaving


def _belongings(person: Person) -> BelongingsOut:
    found = offboarding.belongings(person)
    things = [
        BelongingOut(
            key=thing.key,
            what=thing.what,
            name=thing.name,
            says=thing.says,
            address=thing.address,
            act=thing.act,
            production=thing.production,
            offer=thing.offer,
        )
        for thing in found.things
    ]
    return BelongingsOut(
        username=person.username,
        name=person.shown_name,
        role=person.role,
        active=person.is_active,
        left=person.left,
        teams=sorted(team.name for team in person.teams.all()),
        things=things,
        more=found.more,
        limits=limits_out(person),
    )


@router.get("/people/{username}/belongings", response=BelongingsOut)
def belongings(request: HttpRequest, username: str) -> BelongingsOut:
    """Everything of a person's: accounts, what they own, secrets they have seen."""
    guard.need(request, "look")
    return _belongings(find_person(username))


@router.post("/people/{username}/ownership-transfers", response=BelongingsOut)
def hand_over(request: HttpRequest, username: str, body: HandOverIn) -> BelongingsOut:
    """Hand what they own over to somebody else."""
    by, person = guard.need(request, "people"), find_person(username)
    known = {
        thing.key
        for thing in offboarding.belongings(person, most=None).things
        if thing.act == "hand_over"
    }
    wanted = {**dict.fromkeys(body.keys, body.to), **body.each}
    to = {key: name for key, name in wanted.items() if key in known}
    if not to:
        raise wrong_fields({"keys": "Choose what is to be handed over."})
    offboarding.hand_over(by, person, to)
    return _belongings(find_person(username))


@router.post("/people/{username}/offboardings", response=BelongingsOut)
def leave(request: HttpRequest, username: str) -> BelongingsOut:
    """They leave: no log-in any more, and their accounts are disconnected."""
    offboarding.leave(guard.need(request, "people"), find_person(username))
    return _belongings(find_person(username))
