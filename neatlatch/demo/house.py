"""What the house authority of the demo has issued, and the applications that were set up to accept
it.
"""

from __future__ import annotations

import json
from datetime import timedelta
from typing import Any

import httpx
from django.db import transaction
from django.utils import timezone

from neatlatch.core.registration import ClientMetadata
from neatlatch.core.schemes import BEARER, CLIENT, CODE
from neatlatch.demo.visitor import NOBODY
from neatlatch.desk.authority.certificates import services as certificates
from neatlatch.desk.authority.house import issuing, programs, tokens
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.credentials.services import close, show
from neatlatch.desk.estate.records.applications.models import Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.people.models import Person

# What the stand-ins call their applications.
_SHORT = {"berth-booking": "berths", "fuel-ledger": "fuel", "crew-roster": "crew"}
_GRANTS = {
    CODE: ("authorization_code", "refresh_token"),
    CLIENT: ("client_credentials",),
    BEARER: (),
}


def load(by: Person, story: dict[str, Any], control_port: int) -> None:
    """All of it, as far as the applications are there."""
    for told in story["house"]:
        deployment = (
            Deployment.objects.filter(
                application__key=told["application"], environment__key=told["environment"]
            )
            .select_related("application", "environment")
            .first()
        )
        if deployment is not None:
            issuing.accepts(by, deployment, True)
            deployment.refresh_from_db()
            if told["way"] == "crl":
                _certificates(by, deployment, told, control_port)
                continue
            set_up(by, deployment, told["way"], control_port)
            for client in told["clients"]:
                _client(by, deployment, client)


def set_up(by: Person, deployment: Deployment, way: str, control_port: int) -> None:
    """The application's people set it up: with the issuer's address, and where it asks, with a
    client and secret of its own.
    """
    fields = {
        "application": _SHORT[deployment.application.key],
        "environment": deployment.environment.key,
        "way": way,
        "issuer": issuing.issuer(deployment.environment),
        "audience": issuing.audience_of(deployment),
    }
    if way == "ask":
        asker, handover = issuing.resource(by, deployment)
        fields |= {"client_id": asker.client_id, "client_secret": take(by, handover)}
    httpx.post(
        f"http://127.0.0.1:{control_port}/house", json=fields, verify=NOBODY
    ).raise_for_status()


def programs_of(by: Person, story: dict[str, Any]) -> None:
    """Programs that call the API with tokens of their own."""
    for laid_out in story["programs"]:
        fields = programs.ProgramFields(
            laid_out["name"],
            laid_out["rights"],
            laid_out["holds_for"],
            laid_out["from"],
            laid_out["owner"],
        )
        environment = Environment.objects.get(key=laid_out["environment"])
        _, handover = programs.register(by, environment, fields)
        take(by, handover)


def take(by: Person, handover: Handover) -> str:
    """A secret is handed over."""
    _, value = show(by, handover)
    close(by, handover)
    return value


@transaction.atomic
def _client(by: Person, deployment: Deployment, laid_out: dict[str, Any]) -> None:
    scheme, public, now = laid_out["scheme"], laid_out.get("public", False), timezone.now()
    fields = ClientMetadata(
        laid_out["name"],
        ("connections@gannet.example",),
        public,
        (laid_out["redirect_uri"],) if scheme == CODE else (),
        _GRANTS[scheme],
        frozenset(laid_out["scopes"]),
        "none" if public else "client_secret_basic",
    )
    client, handover = issuing.register(by, deployment, fields, scheme)
    if laid_out.get("allow"):
        clients.record_facts(by, client, {"allow_list": laid_out["allow"]})
    if "connection" in laid_out:
        _connection(by, deployment, client, laid_out)
    if handover is not None:
        take(by, handover)
    begun = now - timedelta(days=laid_out["days_old"])
    Client.objects.filter(pk=client.pk).update(created=begun)
    Credential.objects.filter(client=client).update(issued=begun, ends=begun + issuing.LIFE)
    if laid_out.get("second"):  # made for a replacement that is under way; nobody has taken it yet
        issuing.add_secret(by, client)
    first = Credential.objects.filter(client=client).order_by("issued").first()
    client = Client.objects.select_related(
        "deployment__application", "deployment__environment"
    ).get(pk=client.pk)
    for _ in range(laid_out.get("tokens", 0)):
        tokens.give(client, first, {"grant_type": "client_credentials"})


def _connection(
    by: Person, deployment: Deployment, client: Client, laid_out: dict[str, Any]
) -> None:
    client = Client.objects.select_related(
        "deployment__application", "deployment__environment"
    ).get(pk=client.pk)
    scheme = deployment.application.read_profile().scheme(client.scheme)
    assert scheme is not None
    values = connections.defaults(deployment, scheme, client, "")
    made, _ = connections.create(
        by,
        deployment,
        laid_out["connection"],
        client.scheme,
        client,
        values,
        laid_out.get("scopes", []),
        {},
    )
    workload = laid_out["workload"]
    workloads.use_connection(
        by,
        Connection.objects.get(pk=made.pk),
        workloads.WorkloadFields(
            workload["name"], "", workload["kind"], workload["owner"], workload["runs"]
        ),
        workload["operations"],
    )


def _certificates(
    by: Person, deployment: Deployment, laid_out: dict[str, Any], control_port: int
) -> None:
    """Clients that show a certificate, and the application's own servers' one."""
    roles, now = {}, timezone.now()
    for wanted in laid_out["clients"]:
        client, issued, handover = certificates.register(
            by,
            deployment,
            wanted["name"],
            certificates.CertificateOrder("client", wanted["name"], days=wanted.get("days", 0)),
        )
        roles[certificates.uri_of(client)] = wanted["role"]
        clients.record_facts(
            by,
            client,
            {
                "account": f"svc-{wanted['role']}",
                "account_kind": "service",
                "rights": [wanted["role"]],
            },
        )
        if "connection" in wanted:
            client.refresh_from_db()
            _connection(by, deployment, client, wanted)
        if handover is not None:
            take(by, handover)
        if wanted.get("second"):  # being replaced; nobody has taken the new one yet
            certificates.renew(by, issued)
        begun = now - timedelta(days=wanted.get("days_old", 0))
        Client.objects.filter(pk=client.pk).update(created=begun)
        Credential.objects.filter(pk=issued.pk).update(issued=begun)
    set_up_by_list(deployment, roles, control_port)
    with transaction.atomic():
        _, handover = certificates.issue(
            by,
            issuing.server(by, deployment),
            certificates.CertificateOrder(
                "server", deployment.application.name, tuple(laid_out["servers"]), 40
            ),
        )
    assert handover is not None
    take(by, handover)


def set_up_by_list(deployment: Deployment, roles: dict[str, str], control_port: int) -> None:
    """The application's people tell it which roots to trust, and which certificate is which
    account.
    """
    roots = "".join(authority.pem for authority in certificates.trusted(deployment.environment))
    fields = {
        "application": _SHORT[deployment.application.key],
        "environment": deployment.environment.key,
        "way": "crl",
        "issuer": issuing.issuer(deployment.environment),
        "trust": roots,
        "accounts": json.dumps(roles),
    }
    httpx.post(
        f"http://127.0.0.1:{control_port}/house", json=fields, verify=NOBODY
    ).raise_for_status()
