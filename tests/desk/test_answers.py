"""What an act answers is what is read afterwards: pages keep the answer, and do not ask again."""

from __future__ import annotations

import json
from typing import Any

import pytest
from django.test import Client as WebClient

from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.people import owners
from neatlatch.desk.ground.people.models import Person

from .conftest import Setup

# What only an act tells: what was cleaned off, and a handover that waits.
_ACTS_OWN = ("notes",)


@pytest.fixture
def web(setup: Setup) -> WebClient:
    connection = setup.latched()
    workloads.use_connection(
        setup.by,
        connection,
        workloads.WorkloadFields("Night run", owner="Harbour office"),
        ["GET /manifests"],
    )
    Person.objects.create_user("ewan", password="x", role="operator")
    client = WebClient()
    client.force_login(setup.by, backend="django.contrib.auth.backends.ModelBackend")
    return client


def ask(web: WebClient, method: str, path: str, body: Any = None) -> dict[str, Any]:
    send = getattr(web, method)
    given = (
        {}
        if body is None
        else {
            "data": json.dumps(body),
            "content_type": "application/json",
            "headers": {"If-Match": "*"},
        }
    )
    answer = send(f"/api{path}", **given)
    assert answer.status_code == 200, answer.content
    return {key: value for key, value in answer.json().items() if key not in _ACTS_OWN}


@pytest.mark.parametrize(
    ("method", "act", "read", "body"),
    [
        (
            "patch",
            "/connections/sandbox/cargo",
            "/connections/sandbox/cargo",
            {"pace": 3.0, "scopes": ["manifest.read"]},
        ),
        (
            "post",
            "/connections/sandbox/cargo/secrets",
            "/connections/sandbox/cargo",
            {"secret": " another-one-that-is-long-4471 ", "key": "client_secret"},
        ),
        ("patch", "/clients/{client}", "/clients/{client}", {"contacts": ["quays@gannet.example"]}),
        (
            "post",
            "/clients/{client}/facts",
            "/clients/{client}",
            {"allow_list": ["203.0.113.0/24"], "switches": []},
        ),
        (
            "post",
            "/clients/{client}/consents",
            "/clients/{client}",
            {"scope": "manifest.read", "given": True},
        ),
        (
            "patch",
            "/applications/cargo-manifests",
            "/applications/cargo-manifests",
            {"owner": "Quays", "purpose": "Manifests"},
        ),
        (
            "patch",
            "/workloads/{workload}",
            "/workloads/{workload}",
            {"owner": "Quays", "runs": "02:10 daily"},
        ),
        (
            "patch",
            "/owners/{owner}",
            "/owners/{owner}",
            {"zone": "Europe/London", "deputy": "Quays"},
        ),
        ("put", "/credentials/{credential}/owner", "/credentials/{credential}", {"owner": "Quays"}),
    ],
)
def test_the_answer_is_what_is_read(
    web: WebClient, method: str, act: str, read: str, body: dict[str, Any]
) -> None:
    office = owners.named("Harbour office")
    assert office is not None
    names = {
        "client": Client.objects.get().pk,
        "workload": Workload.objects.get().pk,
        "owner": office.pk,
        "credential": Credential.objects.get(kind="client_secret").pk,
    }
    before = ask(web, "get", read.format(**names))
    answer = ask(web, method, act.format(**names), body)
    assert answer != before
    assert answer == ask(web, "get", read.format(**names))
