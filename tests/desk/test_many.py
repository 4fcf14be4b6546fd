"""Three thousand of everything: every question is answered as with three hundred, by as many
statements and in a bounded answer.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any
from uuid import uuid4

import pytest
from django.apps import apps
from django.db import connection
from django.test import Client as WebClient
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from neatlatch.core.annotating import Link, TagsAndNotes
from neatlatch.desk.authority.records.certificates.models import Issued
from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client, OAuthClient
from neatlatch.desk.estate.records.connections.models import Connection, FormerName, SignIn
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common import settling
from neatlatch.desk.ground.common.actors import CLOCK
from neatlatch.desk.ground.journal.models import Check, Checkpoint
from neatlatch.desk.ground.people.models import (
    Challenge,
    Owner,
    Passkey,
    Person,
    RecoveryCode,
    Tries,
)
from neatlatch.desk.pages.api import api
from neatlatch.desk.work.access.models import RuleBook
from neatlatch.desk.work.decommissioning import services as decommissioning
from neatlatch.desk.work.decommissioning.models import Decommissioning
from neatlatch.desk.work.drawing.models import CheckedCalls, SeenCall
from neatlatch.desk.work.inventory.models import ImportPlan, ImportStep, packed
from neatlatch.desk.work.replacing.models import Replacement
from neatlatch.desk.work.rounds import services as rounds
from neatlatch.desk.work.rounds.models import Leftover, Round, Test
from tests.harness import StandIns

from . import many
from .conftest import forget_the_journal, load_once

FEWER, MORE = 300, 3_000
APPLICATIONS = ("lost-property", "crew-roster", "cargo-manifests", "fuel-ledger", "berth-booking")
# What the demo has none of, and no list shows: they come and go within minutes, or are kept by a
# protocol.
NONE = {
    "common.Repeatable",
    "house.Waiting",
    "house.Grant",
    "house.Code",
    "house.Refresh",
    "house.GoneAccess",
    "house.RegistrationRight",
    "house.RejectedRequest",
    "certificates.Revocation",
    "inventory.Origin",
    "connections.SetAside",
    "finding.Rebuild",
}


def some(model: Any, **which: Any) -> str:
    found = model.objects.filter(**which).order_by("-pk").first()
    assert found is not None, f"there is no {model.__name__}"
    return str(found.pk)


def values() -> dict[str, dict[str, str]]:
    """What to put into the addresses, by the beginning of the path; the longest that
    fits counts.
    """
    deployment = (
        Deployment.objects.select_related("application", "environment")
        .filter(connections__isnull=False)
        .order_by("pk")[0]
    )
    somewhere = Connection.objects.filter(uses__isnull=False).order_by("ref")[0]
    where = {"application": deployment.application.key, "environment": deployment.environment.key}
    return {
        "/api/annotations": {"of": "connections", "key": somewhere.ref},
        "/api/applications": {
            "key": deployment.application.key,
            "environment": deployment.environment.key,
        },
        "/api/clients": {"identity": some(Client, connections__isnull=False)},
        "/api/clients/{identity}/issued": {"identity": some(OAuthClient, house=True)},
        "/api/owners": {"identity": some(Owner)},
        "/api/credentials": {"identity": some(Credential, holders__isnull=False)},
        "/api/handovers": {"identity": some(Handover)},
        "/api/certificates": {"identity": some(Issued)},
        "/api/workloads": {"identity": some(Workload, uses__isnull=False)},
        "/api/connections": {
            "ref": somewhere.ref,
            "scheme": deployment.application.profile["schemes"][0]["key"],
            **where,
        },
        "/api/sign-ins": {"identity": some(SignIn, person__username="morag")},
        "/api/people": {"username": "morag"},
        "/api/access-rules": where,
        "/api/decommissionings": {"identity": some(Decommissioning)},
        "/api/exports": {"what": "connections"},
        "/api/tests": {"identity": some(Test)},
        "/api/rounds": {"number": some(Round)},
        "/api/replacements": {"identity": some(Replacement)},
        "/api/inventory/imports": {"identity": some(ImportPlan)},
        "/api/links": {"token": "nobody-was-given-this"},
        "/api/house/{environment}": {"environment": deployment.environment.key},
        "/api/house/requests": {"identity": "00000000-0000-0000-0000-000000000000"},
    }


QUERIES = {
    "/api/clients": "?application=cargo-manifests",
    "/api/search": "?words=cargo",
    "/api/account-statuses": "?person=morag&application=cargo-manifests&environment=sandbox",
    "/api/filters": "?list=connections",
}
# Addresses for anyone who was asked, by a token that is a secret: one that was never given is not
# found.
MISSING = ("/api/links/", "/api/house/requests/")


@pytest.fixture
def loaded(transactional_db: None, stand_ins: StandIns) -> Iterator[None]:
    load_once(stand_ins.port, only=APPLICATIONS)
    yield
    forget_the_journal()


def test_every_get_is_answered_alike_with_three_hundred_and_with_three_thousand_of_everything(
    loaded: None,
) -> None:
    """Three thousand are more than the thousand at which SQLite refuses an expression, too."""
    web = WebClient(raise_request_exception=False)
    web.force_login(
        Person.objects.get(username="morag"), backend="django.contrib.auth.backends.ModelBackend"
    )
    one_of_each(web)
    copies = many.Copies()
    copies.up_to(FEWER)
    known = values()
    few = ask_all(web, known)
    counts = copies.up_to(MORE)
    assert {label for label, count in counts.items() if count == 0} <= NONE
    assert {label for label, count in counts.items() if 0 < count < MORE} <= many.FEW | {
        "drawing.Drawn",
        "access.RuleBook",
        "inventory.Origin",
    }
    lots = ask_all(web, known)
    assert {path: one.problem for path, one in lots.items() if one.problem} == {}
    assert {
        path: one.kib for path, one in lots.items() if one.kib > 150 and path not in WHOLE
    } == {}
    grown = {
        path: (few[path].statements, one.statements)
        for path, one in lots.items()
        if one.statements > few[path].statements
    }
    assert {path: one for path, one in grown.items() if path not in WHOLE} == {}
    assert len(lots) > 60


# Files of all there is, that are asked for as such.
WHOLE = {"/api/inventory", "/api/exports/{what}"}


@dataclass(frozen=True)
class Answered:
    """How a question was answered; ``problem``: not as it should be."""

    statements: int
    kib: float
    problem: str


def one_of_each(web: WebClient) -> None:
    """What the demo has none of, so that there is something to copy."""
    number = rounds.begin_round(CLOCK).number
    somewhere = Connection.objects.order_by("ref")[0]
    Leftover.objects.create(
        connection=somewhere,
        test_id=uuid4(),
        method="DELETE",
        address="http://127.0.0.1/TEST-1",
        stuck=True,
    )
    Test.objects.filter(round=number).update(state="done", passed=True)
    Round.objects.filter(pk=number).update(ended=timezone.now())
    RuleBook.objects.get_or_create(
        deployment=Deployment.objects.filter(connections__isnull=False)[0],
        defaults={"changed_at": timezone.now()},
    )
    key = Connection.objects.get(ref="production/lost-property").credential
    assert key is not None
    made = web.post(
        f"/api/credentials/{key.pk}/replacements",
        json.dumps({"way": "hand"}),
        content_type="application/json",
    )
    assert made.status_code == 201, made.content
    by = Person.objects.get(username="morag")
    FormerName.objects.create(
        environment=somewhere.deployment.environment,
        name="former",
        connection=somewhere,
        changed_at=timezone.now(),
    )
    CheckedCalls.objects.create(connection=somewhere, accepted=1, accepted_at=timezone.now())
    SeenCall.objects.create(
        connection=somewhere, digest="0" * 64, at=timezone.now(), ends=timezone.now()
    )
    content = TagsAndNotes(("quays",), "Ask the quays first.", (Link("https://a.example/"),))
    object_notes.change(by, somewhere, content)
    begun = decommissioning.begin(by, "connections", somewhere.pk.hex)
    decommissioning.cancel(by, begun)  # of one that is under way there is no second
    passkey = Passkey.objects.create(
        person=by, name="x", credential_id="x", public_key=b"", added=timezone.now()
    )
    Challenge.objects.create(
        digest="x", person=by, purpose=Challenge.Purpose.CODE, passkey=passkey, ends=timezone.now()
    )
    RecoveryCode.objects.create(person=by, digest="x")
    Tries.objects.create(digest="x", at=timezone.now())
    Checkpoint.objects.create(number=1, sealed="x")
    Check.objects.create(begun=timezone.now(), own="x")
    plan = ImportPlan.objects.create(
        who=by.username,
        begun=timezone.now(),
        ended=timezone.now(),
        state="applied",
        total=1,
        done=1,
    )
    step = {
        "says": ["pace: 10.0 became 3.0"],
        "line": 1,
        "before": {},
        "after": {},
        "client": "",
    }
    ImportStep.objects.create(
        plan=plan,
        number=1,
        kind="connections",
        key=somewhere.ref,
        act="change",
        packed=packed(step),
    )


def ask_all(web: WebClient, known: dict[str, dict[str, str]]) -> dict[str, Answered]:
    """Every question once what lists show has been worked out: asked twice, so that what a process
    keeps is kept.
    """
    settling.catch_up()
    found: dict[str, Answered] = {}
    for path, item in api.get_openapi_schema()["paths"].items():
        if "get" not in item:
            continue
        own = known.get(
            max((text for text in known if path.startswith(text)), key=len, default=""), {}
        )
        address = path.format(**own) + QUERIES.get(
            path, ""
        )  # a name that is not known is a KeyError: give it a value above
        if path not in WHOLE:
            web.get(address)
        with CaptureQueriesContext(connection) as asked:
            answer = web.get(address)
        wanted = 404 if path.startswith(MISSING) else 200
        problem = (
            "" if answer.status_code == wanted else f"{answer.status_code} {answer.content[:300]!r}"
        )
        found[path] = Answered(len(asked), len(answer.content) / 1024, problem)
    return found


def test_no_model_has_a_key_of_several_columns() -> None:
    """The database backend says that SQLite knows lookups of tuples, which holds for
    tuples of one.
    """
    for model in apps.get_models():
        assert len(model._meta.pk_fields) == 1
        assert all(
            len(concrete_field.foreign_related_fields) <= 1
            for concrete_field in model._meta.concrete_fields
            if concrete_field.is_relation
        )  # type: ignore[attr-defined]
