"""Access rules: effective rights, rules that never decide, import and export, pushing and reading
back.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from django.db.models import Q, QuerySet
from django.http import HttpRequest, HttpResponse
from ninja import Router

from neatlatch.core import access, filter_words
from neatlatch.core.access import Book, formats
from neatlatch.desk.estate.lookups import find_deployment
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import filtering
from neatlatch.desk.ground.common.answers import written
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.common.quick_rows import Reading, join
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.work.access import services
from neatlatch.desk.work.access.models import RuleBook

from .applications.shapes import EnvironmentOut, environment_out

router = Router(tags=["access"])


class RuleIO(RequestBody):
    """A rule: ``who`` is a principal, ``group:name`` or ``*``; ``match`` exact or prefix;
    ``origins`` the networks it holds for (none: anywhere).
    """

    effect: str
    who: str
    operation: str
    resource: str = ""
    match: str = "exact"
    origins: list[str] = []


@dataclass(frozen=True, kw_only=True)
class RuleOut:
    """A rule with its sentence, and whether it ever decides anything."""

    effect: str
    who: str
    operation: str
    resource: str
    match: str
    origins: list[str]
    says: str
    idle: bool


@dataclass(frozen=True, kw_only=True)
class RightOut:
    """A right: yes, some or no, the rules that decide it (by place), and from where it
    is allowed.
    """

    verdict: str
    rules: list[int]
    allowed_from: list[str]


@dataclass(frozen=True, kw_only=True)
class RightChangedOut:
    """A right that becomes another."""

    principal: str
    operation: str
    resource: str
    before: str
    after: str


@dataclass(frozen=True, kw_only=True)
class RulesDifferenceOut:
    """What a change comes to: the first of each, and how many there are in all; how many rights
    become less and how many more.

    ``unknown`` says why the rights were not worked out, where they were not.
    """

    nothing: bool
    added: list[str]
    gone: list[str]
    groups: list[str]
    reordered: bool
    rights: list[RightChangedOut]
    added_in_all: int
    gone_in_all: int
    rights_in_all: int
    losing: int
    gaining: int
    unknown: str


@dataclass(frozen=True, kw_only=True)
class AccessOut:
    """The rules of an application in an environment, and what follows from them; ``unknown`` says
    why that was not worked out, where it was not.
    """

    application: str
    application_name: str
    environment: EnvironmentOut
    derived: bool
    resource_word: str
    version: int
    rules: list[RuleOut]
    groups: dict[str, list[str]]
    principals: list[str]
    resources: list[str]
    operations: list[str]
    cells: list[list[list[RightOut]]]
    changed_at: datetime | None
    changed_by: str
    read_at: datetime | None
    pushed_at: datetime | None
    there: RulesDifferenceOut | None
    by_hand: RulesDifferenceOut | None
    unknown: str


@dataclass(frozen=True, kw_only=True)
class AccessRow:
    """An application in an environment, in the list.

    ``idle``: how many rules never decide; ``null``: too many rules to work it out.
    """

    application: str
    application_name: str
    environment: EnvironmentOut
    derived: bool
    rules: int
    idle: int | None
    differs: bool


@dataclass(frozen=True, kw_only=True)
class AccessRows:
    """A page of these rows, and the cursor of the next."""

    items: list[AccessRow]
    next: str | None


class BookIn(RequestBody):
    """Rules and groups."""

    rules: list[RuleIO]
    groups: dict[str, list[str]] = {}


class RulesTextIn(RequestBody):
    """Rules as a text."""

    text: str
    format: Literal["csv", "json"]


@dataclass(frozen=True, kw_only=True)
class RulesPreviewOut:
    """What the rules of a text would come to. Nothing is saved."""

    difference: RulesDifferenceOut
    rules: int
    groups: int


class DecisionIn(RequestBody):
    """A request to decide; ``address`` is where it comes from (empty: not known)."""

    principal: str
    operation: str
    resource: str
    address: str = ""


@dataclass(frozen=True, kw_only=True)
class DecisionOut:
    """The decision, and the rule that made it."""

    allowed: bool
    rule: int | None
    says: str


def _book(body: BookIn) -> dict[str, Any]:
    return {
        "groups": body.groups,
        "rules": [
            {
                "effect": rule.effect,
                "who": rule.who,
                "operation": rule.operation,
                "resource": rule.resource,
                "match": rule.match,
                "from": rule.origins,
            }
            for rule in body.rules
        ],
    }


def _rules(book: Book, idle: Collection[int]) -> list[RuleOut]:
    rows = enumerate(zip(formats.as_plain(book)["rules"], book.rules, strict=True))
    return [
        RuleOut(
            effect=plain["effect"],
            who=plain["who"],
            operation=plain["operation"],
            resource=plain["resource"],
            match=plain["match"],
            origins=plain["from"],
            says=rule.says,
            idle=number in idle,
        )
        for number, (plain, rule) in rows
    ]


def _difference(difference: formats.Difference) -> RulesDifferenceOut:
    rights = [
        RightChangedOut(
            principal=right.principal,
            operation=right.operation,
            resource=right.resource,
            before=right.before,
            after=right.after,
        )
        for right in difference.rights
    ]
    return RulesDifferenceOut(
        nothing=difference.nothing,
        added=[rule.says for rule in difference.added],
        gone=[rule.says for rule in difference.gone],
        groups=list(difference.groups),
        reordered=difference.reordered,
        rights=rights,
        unknown=difference.unknown,
        added_in_all=difference.counts.added,
        gone_in_all=difference.counts.gone,
        rights_in_all=difference.counts.rights,
        losing=difference.counts.losing,
        gaining=difference.counts.gaining,
    )


def shape(deployment: Deployment) -> AccessOut:
    """The rules and what follows from them."""
    kept = services.book_of(deployment)
    found = services.standing(deployment, kept)
    at, there, pushed = services.rules_at(deployment), kept.provider_book(), kept.book_pushed()
    return AccessOut(
        application=deployment.application.key,
        application_name=deployment.application.name,
        environment=environment_out(deployment.environment),
        derived=found.derived,
        resource_word=at.resource if at else "path",
        version=kept.version,
        rules=_rules(found.book, found.idle),
        groups={name: list(members) for name, members in found.book.groups.items()},
        principals=list(found.matrix.principals),
        resources=list(found.matrix.resources),
        operations=list(found.matrix.operations),
        cells=[
            [
                [
                    RightOut(
                        verdict=cell.verdict.value,
                        rules=list(cell.rules),
                        allowed_from=list(cell.allowed_from),
                    )
                    for cell in some
                ]
                for some in row
            ]
            for row in found.matrix.cells
        ],
        changed_at=kept.changed_at if kept.version else None,
        changed_by=kept.changed_by,
        read_at=kept.read_at,
        pushed_at=kept.pushed_at,
        there=_difference(services.difference(deployment, kept, found.book, there))
        if there is not None and (not found.derived)
        else None,
        by_hand=_difference(services.difference(deployment, kept, pushed, there))
        if there is not None and pushed is not None
        else None,
        unknown=found.unknown,
    )


# Applications of a page; each has a row for each environment that it stands in.
_PAGE = 30
FIELDS = {"env": "env", "environment": "env", "app": "app", "application": "app"}


_applications = Reading(Application, "t.id IN {keys}", only=("key", "name", "profile"))
_deployments = Reading(
    Deployment, "t.application_id IN {keys}", only=("application", "environment")
)
_environments = Reading(Environment)


@router.get("/access-rules", response=AccessRows)
def rows(request: HttpRequest, cursor: str | None = None, words: str = "") -> HttpResponse:
    """The applications whose rights are known, by name: those with rules, and those with roles.

    ``words`` filters by plain words and field words (``env:production app:cargo``).
    """
    guard.need(request, "look")
    asked = filter_words.read(words, FIELDS)
    known = Application.objects.filter(
        Q(profile__rules__path__isnull=False) | Q(profile__roles__0__isnull=False)
    )
    known = filtering.apply(
        known,
        asked,
        {"app": "key__contains", "env": "deployments__environment__key__startswith"},
        ("name__icontains",),
    )
    named: QuerySet[Any] = known.values_list("pk", "name", named=True)
    keys, following = page(named, "name", cursor, _PAGE)
    found = _applications(key.pk for key in keys)
    environments, standing = (
        {environment.pk: environment for environment in _environments()},
        _deployments(application.pk for application in found),
    )
    join(standing, "environment", environments)
    join(standing, "application", {application.pk: application for application in found})
    # An environment that was asked for is a row's; that an application stands in it is no reason to
    # show its others.
    for word in asked:
        if word.field == "env":
            standing = [
                deployment
                for deployment in standing
                if deployment.environment.key.startswith(word.text) != word.without
            ]
    told = services.listed(
        sorted(
            standing,
            key=lambda deployment: (deployment.application.name, deployment.environment.order),
        )
    )
    return written(AccessRows(items=[_row(row) for row in told], next=following))


def _row(listed: services.Listed) -> AccessRow:
    return AccessRow(
        application=listed.deployment.application.key,
        application_name=listed.deployment.application.name,
        environment=environment_out(listed.deployment.environment),
        derived=listed.derived,
        rules=listed.rules,
        idle=listed.idle,
        differs=listed.differs,
    )


@router.get("/access-rules/{application}/{environment}", response=AccessOut)
def rules(
    request: HttpRequest, response: HttpResponse, application: str, environment: str
) -> AccessOut:
    """The rules of an application in an environment."""
    guard.need(request, "look")
    found = shape(find_deployment(application, environment))
    guard.tagged(response, found.version)
    return found


def _checked(request: HttpRequest, deployment: Deployment) -> RuleBook:
    kept = services.book_of(deployment)
    guard.check_version(request, kept.version, kept.changed_by, ("access rules", deployment.pk))
    return kept


@router.put("/access-rules/{application}/{environment}", response=AccessOut)
def save(request: HttpRequest, application: str, environment: str, body: BookIn) -> AccessOut:
    """Keep these rules in place of the ones that stand."""
    by, deployment = guard.need(request, "change"), find_deployment(application, environment)
    services.save(by, _checked(request, deployment), services.from_plain(deployment, _book(body)))
    return shape(deployment)


@router.post("/access-rules/{application}/{environment}/previews", response=RulesPreviewOut)
def preview(
    request: HttpRequest, application: str, environment: str, body: RulesTextIn
) -> RulesPreviewOut:
    """What the rules of a text would come to. Nothing is saved."""
    guard.need(request, "look")
    deployment = find_deployment(application, environment)
    found = services.preview(deployment, services.book_of(deployment), body.text, body.format)
    return RulesPreviewOut(
        difference=_difference(found.difference), rules=found.rules, groups=found.groups
    )


@router.post("/access-rules/{application}/{environment}/imports", response=AccessOut)
def take_in(
    request: HttpRequest, application: str, environment: str, body: RulesTextIn
) -> AccessOut:
    """Keep the rules of a text in place of the ones that stand."""
    by, deployment = guard.need(request, "change"), find_deployment(application, environment)
    services.save(
        by,
        _checked(request, deployment),
        services.out_of(deployment, body.text, body.format),
        "imported access rules",
    )
    return shape(deployment)


@router.get("/access-rules/{application}/{environment}/exports")
def export(
    request: HttpRequest, application: str, environment: str, format: Literal["csv", "json"] = "csv"
) -> HttpResponse:
    """The rules as CSV or JSON."""
    guard.need(request, "look")
    deployment = find_deployment(application, environment)
    book = services.book_now(deployment)
    text, kind = (
        (formats.to_csv(book), "text/csv")
        if format == "csv"
        else (formats.to_json(book), "application/json")
    )
    answer = HttpResponse(text, content_type=f"{kind}; charset=utf-8")
    answer["Content-Disposition"] = (
        f'attachment; filename="{application}-{environment}-rules.{format}"'
    )
    return answer


@router.post("/access-rules/{application}/{environment}/decisions", response=DecisionOut)
def decide(
    request: HttpRequest, application: str, environment: str, body: DecisionIn
) -> DecisionOut:
    """Decide one request by our rules."""
    guard.need(request, "look")
    deployment = find_deployment(application, environment)
    book = services.book_now(deployment)
    try:
        found = access.RuleEvaluator(book).decide(
            body.principal.strip(),
            body.operation,
            body.resource.strip(),
            body.address.strip() or None,
        )
    except ValueError as error:
        raise wrong_fields({"address": f"“{body.address}” is not an address."}) from error
    verb = "may" if found.allowed else "may not"
    why = found.why(book, bool(body.address.strip()))
    return DecisionOut(
        allowed=found.allowed,
        rule=found.rule,
        says=f"{body.principal} {verb} {body.operation} {body.resource}; {why}.",
    )


@router.post("/access-rules/{application}/{environment}/readings", response=AccessOut)
def read_back(request: HttpRequest, application: str, environment: str) -> AccessOut:
    """Read the rules that the application holds now."""
    by, deployment = guard.need(request, "change"), find_deployment(application, environment)
    services.read_back(by, deployment)
    return shape(deployment)


@router.post("/access-rules/{application}/{environment}/pushes", response=AccessOut)
def push(request: HttpRequest, application: str, environment: str, confirm: str = "") -> AccessOut:
    """Write our rules to the application.

    Where that takes rights away, ``confirm`` must be the environment's name.
    """
    by, deployment = guard.need(request, "change"), find_deployment(application, environment)
    kept = services.book_of(deployment)
    there = kept.provider_book()
    if there is not None:
        told = services.difference(deployment, kept, there, kept.book())
        if told.unknown and confirm != deployment.environment.name:
            raise Problem(
                422,
                "Which rights this takes away is not known.",
                f"{told.unknown} Type {deployment.environment.name} to push all the same.",
                code="rights-lost-unknown",
            )
        if told.counts.losing and confirm != deployment.environment.name:
            who = ", ".join(told.losers)
            raise Problem(
                422,
                "This takes rights away.",
                (
                    f"{told.counts.losing} "
                    f"{'right of' if told.counts.losing == 1 else 'rights of'} {who} "
                    f"{'stops' if told.counts.losing == 1 else 'stop'} at once. Type "
                    f"{deployment.environment.name} to confirm."
                ),
                code="rights-lost",
            )
    services.push(by, deployment)
    return shape(deployment)


@router.post("/access-rules/{application}/{environment}/adoptions", response=AccessOut)
def take_theirs(request: HttpRequest, application: str, environment: str) -> AccessOut:
    """Take the rules that stand there as ours."""
    by, deployment = guard.need(request, "change"), find_deployment(application, environment)
    _checked(request, deployment)
    services.take_theirs(by, deployment)
    return shape(deployment)
