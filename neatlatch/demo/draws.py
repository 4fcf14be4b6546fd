"""Workloads of the demo that draw: what each has to draw with, and what it drew in the last
days.
"""

from __future__ import annotations

import contextlib
from datetime import datetime, timedelta
from typing import Any

from django.utils import timezone

from neatlatch.core import signed_calls as core_signed_calls
from neatlatch.core.schemes import SIGNING_SECRET
from neatlatch.desk.authority.house.own import DRAW, RELAY
from neatlatch.desk.estate.connections.destinations import DestinationPermission
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.drawing import services, signed_calls
from neatlatch.desk.work.drawing.models import Drawn

from .house import take


def load(by: Person, story: dict[str, Any]) -> None:
    """All of them, as far as the workloads are there."""
    now = timezone.now()
    for told in story["draws"]:
        workload = Workload.objects.filter(
            name=told["workload"], environment__key=told["environment"]
        ).first()
        if workload is not None:
            _workload(by, workload, told, now)
    check_calls()


def check_calls() -> None:
    """Two calls that the workload of a connection with a signing secret had checked: one that the
    application signed, and one that somebody changed on the way.
    """
    for held in HeldSecret.objects.filter(key=SIGNING_SECRET).select_related(
        "credential", "connection__deployment__application"
    ):
        connection, rule = held.connection, signed_calls.rule_of(held.connection)
        use = connection.uses.select_related("workload__environment").first()
        client = Client.objects.filter(workload=use.workload).first() if use else None
        if use is None or rule is None or client is None:
            continue
        asker = services.WorkloadCaller(use.workload, client, frozenset())
        key = core_signed_calls.key_of(rule, held.credential.open().reveal())
        stamp, body = str(int(timezone.now().timestamp())), b'{"type": "tickets.changed"}'
        headers = {
            "webhook-id": "call_of_the_demo",
            "webhook-timestamp": stamp,
            "webhook-signature": core_signed_calls.signature(
                rule, key, "call_of_the_demo", stamp, body
            ),
        }
        signed_calls.check(asker, connection, headers, body)
        with contextlib.suppress(Problem):
            signed_calls.check(asker, connection, headers, body + b" ")


def _workload(by: Person, workload: Workload, laid_out: dict[str, Any], now: datetime) -> None:
    relay, begun = laid_out.get("relay", False), now - timedelta(days=laid_out["days_old"])
    ends = now + timedelta(days=laid_out["ends_in"]) if "ends_in" in laid_out else None
    client, handover = services.give(
        by,
        workload,
        laid_out["with"],
        "relay" if relay else "draw",
        ends,
        leave=DestinationPermission("Part of the demo"),
    )
    assert handover is not None
    take(by, handover)
    moments = [
        moment
        for day in range(laid_out["days_old"])
        for hour in laid_out["hours"]
        if begun
        < (
            moment := (now - timedelta(days=day)).replace(
                hour=hour, minute=7, second=0, microsecond=0
            )
        )
        < now
    ]
    for use in workload.uses.exclude(connection=None).select_related("connection__client"):
        _drew(
            workload,
            use.connection,
            RELAY if relay else DRAW,
            laid_out["each"],
            moments,
        )
    Client.objects.filter(pk=client.pk).update(created=begun)
    Credential.objects.filter(client=client).update(
        issued=begun, last_used=max(moments, default=None)
    )


def _drew(
    workload: Workload, connection: Connection | None, way: str, each: int, moments: list[datetime]
) -> None:
    assert connection is not None
    used = services.secret_of(connection)
    Drawn.objects.bulk_create(
        Drawn(
            workload=workload.pk,
            connection=connection.pk,
            credential=used,
            way=way,
            begins=moment.replace(minute=0),
            count=each,
            last=moment,
        )
        for moment in moments
    )
