"""What is decommissioned, a class for each kind: who uses it, how it is revoked, how that is
proven, what is kept of it, and how it goes.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable
from typing import Any
from uuid import UUID

from django.db import transaction
from django.db.models import Max, Min, Sum
from django.utils import timezone

from neatlatch.core.decommissioning import Revocation, Usage
from neatlatch.core.schemes import SIGNING_SECRET
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.estate.applications import declared as applications
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.connections import tokens
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.work.drawing import services as drawing
from neatlatch.desk.work.drawing.models import Drawn
from neatlatch.desk.work.inventory import collecting
from neatlatch.desk.work.replacing import trial
from neatlatch.desk.work.replacing.trial import Outcome

WHY = "decommissioned"
# Of what uses it, and of its tests, so many are named and kept.
_MOST_USAGES, _MOST_TESTS = 200, 20
_PLACE = ("deployment__application", "deployment__environment")


class Subject(ABC):
    """An object that is decommissioned."""

    # Its kind in an inventory.
    kind = ""

    @property
    @abstractmethod
    def name(self) -> str:
        """What a person types to confirm the end."""

    @property
    @abstractmethod
    def where(self) -> str:
        """The application and the environment that it is of, in words."""

    @property
    @abstractmethod
    def address(self) -> str:
        """Its page."""

    @property
    @abstractmethod
    def row(self) -> str:
        """Its primary key as the database has it, as text."""

    @abstractmethod
    def usages(self) -> list[Usage]:
        """What uses it."""

    def revocations(self) -> list[Revocation]:
        """What is to be revoked."""
        return []

    def revoke(self, by: Actor, revocation: Revocation) -> str:
        """Revoke it, or note that a person has; what the application said. Raises
        :class:`Problem`.
        """
        raise NotImplementedError

    def prove(self) -> Outcome:
        """Try what was revoked: it has to be refused."""
        raise NotImplementedError

    @property
    def also(self) -> str:
        """What may go with it, as a sentence; empty: nothing."""
        return ""

    @property
    def never(self) -> str:
        """Why it is never decommissioned, as a sentence; empty: it may be."""
        return ""

    def history(self) -> dict[str, Any]:
        """What is kept of it, as plain values without secrets."""
        now = collecting.of_rows(self.kind, [self.row]).get(self.row)
        usages = [{"kind": usage.kind, "name": usage.name} for usage in self.usages()]
        return {"fields": now.fields if now is not None else {}, "usages": usages}

    @abstractmethod
    def remove(self, by: Actor, with_also: bool) -> None:
        """Forget its secrets and take it away; ``with_also``: with what :attr:`also` tells of.
        Raises :class:`Problem`.
        """


def _last_draws(**which: UUID) -> dict[UUID, Any]:
    """When it was last drawn, by the other side's ID."""
    (name,) = which
    other = "connection" if name == "workload" else "workload"
    rows = Drawn.objects.filter(**which).values_list(other).annotate(Max("last"))
    return dict(rows)


class ConnectionSubject(Subject):
    """A connection: its tokens, and the secrets that no other connection holds."""

    kind = "connections"

    def __init__(self, connection: Connection) -> None:
        self.connection = connection

    @property
    def name(self) -> str:
        return self.connection.ref

    @property
    def where(self) -> str:
        deployment = self.connection.deployment
        return f"{deployment.application.name}, {deployment.environment.name}"

    @property
    def address(self) -> str:
        return f"/connections/{self.connection.ref}"

    @property
    def row(self) -> str:
        return self.connection.pk.hex

    def usages(self) -> list[Usage]:
        uses = self.connection.uses.select_related("workload").order_by("workload__name")
        last = _last_draws(connection=self.connection.pk)
        found = [
            Usage(
                "workload",
                use.workload.name,
                f"/workloads/{use.workload_id}",
                "draws by reference name" if use.workload.draws else "has the values itself",
                last.get(use.workload_id),
                seen=use.workload.draws,
            )
            for use in uses[:_MOST_USAGES]
        ]
        people = self.connection.token_sets.exclude(person=None).select_related("person")
        return found + [
            Usage(
                "person",
                token_set.person.shown_name,
                f"/people/{token_set.person.username}",
                "has connected an account of their own",
            )
            for token_set in people[:_MOST_USAGES]
            if token_set.person is not None
        ]

    def _held_secrets(self) -> list[tuple[HeldSecret, str]]:
        """The secrets that it holds, each with another connection that holds the very same (empty:
        none does). Two queries.
        """
        held = list(self.connection.held_secrets.select_related("credential__client"))
        prints = {each.credential.fingerprint for each in held} - {""}
        same = HeldSecret.objects.filter(credential__fingerprint__in=prints)
        elsewhere = same.exclude(connection=self.connection).order_by()
        other = dict(
            elsewhere.values_list("credential__fingerprint").annotate(Min("connection__ref"))
        )
        return [(each, other.get(each.credential.fingerprint, "")) for each in held]

    def revocations(self) -> list[Revocation]:
        found = []
        if self.connection.token_sets.exists():
            says = "The application is asked to end them, where it has an address for that."
            found.append(
                Revocation("tokens", "The tokens that it holds", "protocol", says, provable=False)
            )
        return found + [self._revocation(held, other) for held, other in self._held_secrets()]

    def _revocation(self, held: HeldSecret, other: str) -> Revocation:
        credential, application = held.credential, self.connection.deployment.application.name
        key = f"credential:{credential.pk}"
        what = f"{credential.kind.replace('_', ' ')} {credential.hint}"
        client = credential.client
        if other:
            return Revocation(key, what, "kept", f"{other} goes on using it.")
        if not credential.lives:
            return Revocation(key, what, "kept", "It was revoked before.")
        if credential.digest:
            return Revocation(key, what, "house", "The house authority issued it.")
        if credential.kind == SIGNING_SECRET:
            acts = (
                f"Open {application} as somebody who may manage the calls that it sends.",
                "Stop them, or delete the secret that they are signed with.",
            )
            return Revocation(key, what, "manually", "", acts)
        if client is not None and client.managed and client.management_token is not None:
            return Revocation(
                key, what, "kept", f"It ends with its client: decommission {client.name} next."
            )
        whose = f" of “{client.name}”" if client is not None else ""
        acts = (
            f"Open {application} as somebody who may manage its clients and keys.",
            f"Find the {what}{whose}, and revoke or delete it.",
        )
        return Revocation(key, what, "manually", "", acts)

    def revoke(self, by: Actor, revocation: Revocation) -> str:
        if revocation.key == "tokens":
            said = tokens.revoke(self.connection)
            with transaction.atomic():
                tokens.drop(self.connection)
                about = {"tokens revoked there": said}
                write(by, "ended the tokens of", "connection", self.connection.ref, about)
            return said
        identity = UUID(revocation.key.partition(":")[2])
        credential = Credential.objects.get(pk=identity)
        if revocation.how == "house":
            issuing.revoke(by, credential, WHY)
            return ""
        with transaction.atomic():
            Credential.objects.filter(pk=identity).update(
                state=Credential.State.RETIRED, revoked=timezone.now(), why=WHY
            )
            write(by, "retired", "credential", credential.hint, {"id": credential.pk, "why": WHY})
        return ""

    def prove(self) -> Outcome:
        return trial.attempt(self.connection, {}, {}, fresh=False)

    def history(self) -> dict[str, Any]:
        tests = self.connection.tests.filter(state="done").order_by("-made")[:_MOST_TESTS]
        drawn = Drawn.objects.filter(connection=self.connection.pk)
        total = drawn.aggregate(count=Sum("count"), last=Max("last"))
        return super().history() | {
            "tests": [
                {
                    "ended": test.ended.isoformat() if test.ended else "",
                    "passed": test.passed,
                    "by": test.begun_by,
                    "says": next(
                        (
                            f"{rung['rung']}: {rung['says']}"
                            for rung in test.rungs
                            if not rung["passed"] and not rung.get("skipped")
                        ),
                        "",
                    ),
                }
                for test in tests
            ],
            "draws": total["count"] or 0,
            "last_draw": total["last"].isoformat() if total["last"] else "",
            "credentials": [_credential(held.credential) for held, _ in self._held_secrets()],
        }

    def remove(self, by: Actor, with_also: bool) -> None:
        alone = [held.credential_id for held, other in self._held_secrets() if not other]
        with transaction.atomic():
            gone = Credential.objects.filter(pk__in=alone, revoked__isnull=False)
            gone.update(value=None)
        connections.remove(by, self.connection)


def _credential(credential: Credential) -> dict[str, str]:
    return {
        "kind": credential.kind,
        "hint": credential.hint,
        "issued": credential.issued.isoformat(),
        "state": credential.state,
    }


class ClientSubject(Subject):
    """A client registration, with its secrets."""

    kind = "clients"

    def __init__(self, client: Client) -> None:
        self.client = client

    @property
    def name(self) -> str:
        return self.client.name

    @property
    def where(self) -> str:
        return (
            f"{self.client.deployment.application.name}, {self.client.deployment.environment.name}"
        )

    @property
    def address(self) -> str:
        return f"/clients/{self.client.pk}"

    @property
    def row(self) -> str:
        return self.client.pk.hex

    def usages(self) -> list[Usage]:
        refs = self.client.connections.order_by("ref").values_list("ref", flat=True)
        found = [
            Usage("connection", ref, f"/connections/{ref}", "names this client", blocks=True)
            for ref in refs[:_MOST_USAGES]
        ]
        last = self.client.credentials.aggregate(at=Max("last_used"))["at"]
        if self.client.house:
            found.append(
                Usage("holder", "Its holder", self.address, "uses its secrets", last, seen=True)
            )
        return found

    def _living(self) -> Iterable[Credential]:
        rows = self.client.credentials.filter(state__in=Credential.LETS_IN)
        return rows.defer("value").order_by("issued")

    def revocations(self) -> list[Revocation]:
        client, application = self.client, self.client.deployment.application.name
        if client.house:
            says = "The house authority refuses them from then on."
            return [Revocation("house", "Every secret and token of it", "house", says)]
        if client.managed and client.management_token is not None:
            says = "The application deletes it, with its secrets and tokens (RFC 7592 §2.3)."
            return [Revocation("registration", "The registration", "protocol", says)]
        enter = f"Open {application} as somebody who may manage its clients and keys."
        found = [
            Revocation(
                f"credential:{credential.pk}",
                f"{credential.kind.replace('_', ' ')} {credential.hint}",
                "manually",
                "",
                (enter, f"Revoke or delete the {credential.kind.replace('_', ' ')}."),
            )
            for credential in self._living()
        ]
        delete = f"Delete or disable “{client.client_id or client.account or client.name}”."
        return [*found, Revocation("registration", client.name, "manually", "", (enter, delete))]

    def revoke(self, by: Actor, revocation: Revocation) -> str:
        if revocation.how == "house":
            issuing.revoke_all(by, self.client, WHY)
            issuing.end_management(by, self.client)
        elif revocation.how == "protocol":
            clients.unregister(by, self.client)
        elif revocation.key != "registration":
            rows = Credential.objects.filter(pk=UUID(revocation.key.partition(":")[2]))
            rows.update(state=Credential.State.RETIRED, revoked=timezone.now(), why=WHY)
        return ""

    def prove(self) -> Outcome:
        client = self.client
        if client.house:
            return _refused_by_the_house([client])
        if client.managed and client.management_token is not None:
            return Outcome(*clients.is_unregistered(client))
        says = "No connection here shows its secrets any more, so they cannot be tried from here."
        return Outcome(False, False, says)

    def history(self) -> dict[str, Any]:
        rows = self.client.credentials.defer("value").order_by("issued")
        return super().history() | {"credentials": [_credential(row) for row in rows]}

    def remove(self, by: Actor, with_also: bool) -> None:
        if self.client.house:
            issuing.remove(by, self.client, WHY)
            return
        if self.client.managed:  # it is gone there already
            Client.objects.filter(pk=self.client.pk).update(management_token=None)
            self.client.management_token = None
        clients.remove(by, self.client)


def _refused_by_the_house(of: Iterable[Client]) -> Outcome:
    """What the house authority says to each secret that it issued to some clients."""
    now, says = timezone.now(), "it issued none"
    for client in of:
        for credential in client.credentials.exclude(digest="").defer("value"):
            why = issuing.state_of(credential, credential.hint, now)
            if not why:
                return Outcome(True, False, f"{credential.hint} is still accepted.")
            says = why
    return Outcome(False, True, f"The house authority refuses it: {says}.")


class WorkloadSubject(Subject):
    """A workload, with what it draws with."""

    kind = "workloads"

    def __init__(self, workload: Workload) -> None:
        self.workload = workload

    @property
    def name(self) -> str:
        return self.workload.name

    @property
    def where(self) -> str:
        return self.workload.environment.name

    @property
    def address(self) -> str:
        return f"/workloads/{self.workload.pk}"

    @property
    def row(self) -> str:
        return self.workload.pk.hex

    def usages(self) -> list[Usage]:
        last = _last_draws(workload=self.workload.pk)
        uses = self.workload.uses.select_related("connection", "application")
        return [
            Usage(
                "connection",
                use.connection.ref if use.connection else use.application.name,
                f"/connections/{use.connection.ref}"
                if use.connection
                else f"/applications/{use.application.key}",
                "it draws this" if self.workload.draws else "it calls this with values of its own",
                last.get(use.connection_id) if use.connection_id else None,
                seen=self.workload.draws,
            )
            for use in uses[:_MOST_USAGES]
        ]

    def revocations(self) -> list[Revocation]:
        return [
            Revocation(
                f"client:{key.pk}",
                f"What it draws with: {key.client_id}",
                "house",
                "The house authority refuses it from then on.",
            )
            for key in self.workload.keys.order_by("created")
        ]

    def revoke(self, by: Actor, revocation: Revocation) -> str:
        key = Client.objects.get(pk=UUID(revocation.key.partition(":")[2]))
        issuing.revoke_all(by, key, WHY)
        return ""

    def prove(self) -> Outcome:
        return _refused_by_the_house(self.workload.keys.all())

    def history(self) -> dict[str, Any]:
        total = Drawn.objects.filter(workload=self.workload.pk).aggregate(
            count=Sum("count"), last=Max("last")
        )
        return super().history() | {
            "draws": total["count"] or 0,
            "last_draw": total["last"].isoformat() if total["last"] else "",
        }

    def remove(self, by: Actor, with_also: bool) -> None:
        with transaction.atomic():
            for key in self.workload.keys.all():
                drawing.take_away(by, key)
            workloads.remove(by, self.workload)


class DeploymentSubject(Subject):
    """An application in an environment: what is of it there goes first."""

    kind = "deployments"

    def __init__(self, deployment: Deployment) -> None:
        self.deployment = deployment

    @property
    def name(self) -> str:
        return f"{self.deployment.application.key}/{self.deployment.environment.key}"

    @property
    def where(self) -> str:
        return f"{self.deployment.application.name}, {self.deployment.environment.name}"

    @property
    def address(self) -> str:
        return f"/applications/{self.deployment.application.key}"

    @property
    def row(self) -> str:
        return str(self.deployment.pk)

    def usages(self) -> list[Usage]:
        refs = self.deployment.connections.order_by("ref").values_list("ref", flat=True)
        found = [
            Usage("connection", ref, f"/connections/{ref}", "leads into it", blocks=True)
            for ref in refs[:_MOST_USAGES]
        ]
        rows = self.deployment.clients.order_by("name").values_list("pk", "name")
        found += [
            Usage("client", name, f"/clients/{key}", "is registered there", blocks=True)
            for key, name in rows[:_MOST_USAGES]
        ]
        uses = Use.objects.filter(
            application=self.deployment.application,
            connection=None,
            workload__environment=self.deployment.environment,
        ).select_related("workload")
        return found + [
            Usage(
                "workload",
                use.workload.name,
                f"/workloads/{use.workload_id}",
                "calls it, by no connection that is named",
            )
            for use in uses[:_MOST_USAGES]
        ]

    @property
    def never(self) -> str:
        own = self.deployment.application.key == issuing.OWN_KEY
        return "It is Neat Latch itself: workloads draw from it." if own else ""

    @property
    def also(self) -> str:
        others = Deployment.objects.filter(application=self.deployment.application).exclude(
            pk=self.deployment.pk
        )
        if others.exists():
            return ""
        name = self.deployment.application.name
        return f"This is its last environment: remove {name} itself too, with its profile."

    def history(self) -> dict[str, Any]:
        application = str(self.deployment.application_id)
        now = collecting.of_rows("applications", [application]).get(application)
        fields = now.fields if now is not None else {}
        return super().history() | {"application": fields}

    def remove(self, by: Actor, with_also: bool) -> None:
        application = self.deployment.application
        with transaction.atomic():
            applications.remove_deployment(by, self.deployment)
            if with_also and not application.deployments.exists():
                applications.remove_application(by, application)


def _client(row: str) -> Subject | None:
    found = Client.objects.select_related(*_PLACE).filter(pk=UUID(row)).first()
    return ClientSubject(found) if found is not None else None


def _connection(row: str) -> Subject | None:
    rows = Connection.objects.select_related(*_PLACE, "client").filter(pk=UUID(row))
    found = rows.first()
    return ConnectionSubject(found) if found is not None else None


def _deployment(row: str) -> Subject | None:
    rows = Deployment.objects.select_related("application", "environment").filter(pk=int(row))
    found = rows.first()
    return DeploymentSubject(found) if found is not None else None


def _workload(row: str) -> Subject | None:
    found = Workload.objects.select_related("environment").filter(pk=UUID(row)).first()
    return WorkloadSubject(found) if found is not None else None


_FIND = {
    "clients": _client,
    "connections": _connection,
    "deployments": _deployment,
    "workloads": _workload,
}


def subject(of: str, row: str) -> Subject | None:
    """The object of a kind by its primary key as text; ``None``: it is gone."""
    return _FIND[of](row)
