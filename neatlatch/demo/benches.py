"""What stands on the workbenches of the demo: access rules, workloads without a connection, open
requests, filters.
"""

from __future__ import annotations

from typing import Any

import httpx

from neatlatch.core.access import formats
from neatlatch.demo.visitor import NOBODY
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.records.applications.models import Application, Deployment
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work import benches
from neatlatch.desk.work.access import services as access
from neatlatch.desk.work.finding.models import SavedFilter
from neatlatch.desk.work.rounds import services as rounds


def load(by: Person, story: dict[str, Any], control_port: int) -> None:
    """All of it, as far as the applications are there."""
    for one in story["filters"]:
        SavedFilter.objects.create(
            person=by, list=one["list"], name=one["name"], words=one["words"], shared=True
        )
    for told in story["workloads_without"]:
        if application := Application.objects.filter(key=told["application"]).first():
            given = workloads.WorkloadFields(
                told["name"],
                told["environment"],
                told["kind"],
                told["owner"],
                "",
                tuple(told["windows"]),
            )
            workloads.use(by, workloads.add(by, given), application, None, told["operations"])
    _redirect_uri(by, story["redirect_uri_left_over"])
    _consent(by, story["consent_asked"])
    _access_rules(by, story["access_rules"], control_port)


def _redirect_uri(by: Person, laid_out: dict[str, Any]) -> None:
    connection = (
        Connection.objects.select_related("client__deployment__application")
        .filter(ref=laid_out["ref"])
        .first()
    )
    if connection is None or connection.client is None:
        return
    clients.change(by, connection.client, clients.with_uri(laid_out["uri"]))
    # The client's change proves nothing anew: what was known of the connection is tested again.
    rounds.run(rounds.begin_test(by, Connection.objects.get(pk=connection.pk)))


def _consent(by: Person, laid_out: dict[str, Any]) -> None:
    connection = (
        Connection.objects.select_related("client__deployment__application")
        .filter(ref=laid_out["ref"])
        .first()
    )
    if connection is not None and connection.client is not None:
        benches.ask_consent(by, connection.client, laid_out["scopes"], laid_out["of"])


def _access_rules(by: Person, laid_out: dict[str, Any], control_port: int) -> None:
    deployment = (
        Deployment.objects.filter(
            application__key=laid_out["application"], environment__key=laid_out["environment"]
        )
        .select_related("application", "environment")
        .first()
    )
    if deployment is None:
        return
    access.save(
        by,
        access.book_of(deployment),
        formats.from_plain({"groups": laid_out["groups"], "rules": laid_out["rules"]}),
    )
    access.read_back(by, deployment)
    access.push(by, deployment)
    # Somebody at the application's own screen, who tells nobody.
    httpx.post(
        f"http://127.0.0.1:{control_port + 54}/{laid_out['environment']}/register/rules/add",
        data=laid_out["by_hand"],
        verify=NOBODY,
    )
    access.read_back(by, deployment)
