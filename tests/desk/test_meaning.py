"""What a change of a profile, or of scopes, means: said before it is saved, and done with it."""

from __future__ import annotations

from typing import Any

import pytest

from neatlatch.core import profiles
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.workloads import services as workloads

from .conftest import Setup
from .test_workbenches import fresh, send


def changed(**more: Any) -> dict[str, Any]:
    """The profile with something else in it."""
    return {**profiles.brief(Application.objects.get().read_profile()), **more}


def renewing(**settings: str) -> dict[str, Any]:
    kept = changed()
    return {
        **kept,
        "schemes": [
            {**scheme, "settings": settings} if scheme["key"] == "oauth2_code" else scheme
            for scheme in kept["schemes"]
        ],
    }


def preview(setup: Setup, profile: dict[str, Any], status: int = 200) -> dict[str, Any]:
    return dict(
        send(
            setup.web(),
            "post",
            "/applications/cargo-manifests/profile-previews",
            {"profile": profile},
            status,
        )
    )


def save(setup: Setup, profile: dict[str, Any], status: int = 200) -> None:
    send(
        setup.web(),
        "patch",
        "/applications/cargo-manifests",
        {"profile": profile},
        status,
        **{"If-Match": "*"},
    )


@pytest.fixture
def latched(setup: Setup) -> Connection:
    connection = setup.latched()
    assert setup.test(connection).passed
    assert fresh().state == "latched"
    return connection


@pytest.mark.parametrize(
    ("change", "request_", "says"),
    [
        (lambda: renewing(renews_with="access"), "sign-in", "access_token"),
        (lambda: changed(harmless="GET /berths"), "harmless call", "/berths"),
    ],
)
def test_what_a_test_would_send_is_compared(
    setup: Setup, latched: Connection, change: Any, request_: str, says: str
) -> None:
    """F4: pins alone were compared, so this was called harmless, and the state stayed latched."""
    profile = change()
    told = preview(setup, profile)
    meanings = [meaning for meaning in told["meanings"] if request_ in meaning["sent"].split(", ")]
    assert [(meaning["ref"], meaning["pin"]) for meaning in meanings] == [("sandbox/cargo", "")]
    assert says in meanings[0]["why"]
    assert fresh().state == "latched"  # nothing is saved by it
    save(setup, profile)
    found = fresh()
    assert (found.state, found.proven_at is not None and found.proven_at < found.changed_at) == (
        "not_proven",
        True,
    )


def test_what_no_test_sends_leaves_it_latched(setup: Setup, latched: Connection) -> None:
    profile = changed(limits={"spread": 5})
    assert preview(setup, profile)["meanings"] == []
    save(setup, profile)
    assert fresh().state == "latched"


def test_a_mistyped_key_is_refused(setup: Setup, latched: Connection) -> None:
    profile = renewing(renews_wiht="access")
    before = Application.objects.get().version
    assert "“renews_with”" in preview(setup, profile, 422)["errors"]["profile"]
    save(setup, profile, 422)
    assert Application.objects.get().version == before


def use(setup: Setup, *operations: str) -> None:
    workloads.use_connection(
        setup.by,
        fresh(),
        workloads.WorkloadFields("Night run", "", "job", "Freight desk", "daily"),
        list(operations),
    )


def test_narrowing_scopes_names_who_stops(setup: Setup, latched: Connection) -> None:
    use(setup, "GET /manifests", "GET /berths")
    client = Client.objects.get()
    web = setup.web("reader")
    expected = [{"name": "Night run", "operations": ["GET /berths"], "lacks": ["berth.read"]}]
    asked = send(
        web, "post", "/connections/sandbox/cargo/scopes/previews", {"scopes": ["manifest.read"]}
    )
    assert asked == [{"ref": "sandbox/cargo", "workloads": expected, "asks_in_vain": []}]
    permitted = send(
        web, "post", f"/clients/{client.pk}/scopes/previews", {"scopes": ["manifest.read"]}
    )
    assert permitted == [
        {"ref": "sandbox/cargo", "workloads": expected, "asks_in_vain": ["berth.read"]}
    ]
    for address in ("/connections/sandbox/cargo", f"/clients/{client.pk}"):
        assert (
            send(
                web,
                "post",
                f"{address}/scopes/previews",
                {"scopes": ["manifest.read", "berth.read"]},
            )
            == []
        )


def test_nobody_is_stopped_who_could_not_work_before(setup: Setup, latched: Connection) -> None:
    use(setup, "PUT /manifests/{number}")
    assert (
        send(setup.web(), "post", "/connections/sandbox/cargo/scopes/previews", {"scopes": []})
        == []
    )
