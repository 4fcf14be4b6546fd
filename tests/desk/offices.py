"""An application of the firm that takes certificates, and the openssl command as the receiver of
what the house publishes.
"""

from __future__ import annotations

import json
import subprocess
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch.desk.authority.certificates import services
from neatlatch.desk.authority.records.certificates.models import Issued
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.credentials.models import Handover
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.drawing import services as drawing

JSON: Any = {"content_type": "application/json"}


class Office:
    """An application of the firm that takes certificates, and an administrator's browser."""

    def __init__(self) -> None:
        self.by = Person.objects.create_user(
            "morag", password="skerry-lantern-hawser", role="administrator"
        )
        self.environment = Environment.objects.get(key="production")
        application = Application.objects.create(
            key="crew-roster", name="Crew roster", profile={"schemes": [{"key": "certificate"}]}
        )
        self.deployment = Deployment.objects.create(
            application=application,
            environment=self.environment,
            house=True,
            changed_at=timezone.now(),
        )
        self.web = WebClient()
        self.web.force_login(self.by, backend="django.contrib.auth.backends.ModelBackend")

    def register(
        self, name: str = "Rest hours display", **asked: Any
    ) -> tuple[Issued, Handover | None]:
        _, issued, handover = services.register(
            self.by, self.deployment, name, services.CertificateOrder("client", **asked)
        )
        return issued, handover

    def post(self, path: str, status: int = 200, **body: Any) -> Any:
        answer = self.web.post(f"/api{path}", json.dumps(body), **JSON)
        assert answer.status_code == status, answer.content
        return answer.json()

    def get(self, path: str) -> Any:
        return self.web.get(f"/api{path}").json()

    def fetch(self, path: str) -> bytes:
        answer = WebClient().get(path)
        assert answer.status_code == 200
        return bytes(answer.content)


def request_of(name: str = "Crew tablet") -> tuple[str, ec.EllipticCurvePrivateKey]:
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, name)])
    made = x509.CertificateSigningRequestBuilder().subject_name(subject).sign(key, hashes.SHA256())
    return made.public_bytes(Encoding.PEM).decode(), key


def openssl(folder: Path, *command: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        ["openssl", *command], cwd=folder, capture_output=True, text=True, check=False
    )


def revoked_by_openssl(office: Office, folder: Path, issued: Issued) -> bool:
    """What a receiver finds that has only what the house publishes."""
    (folder / "trust.pem").write_bytes(office.fetch("/house/production/trust.pem"))
    authority = issued.authority
    base = f"/house/production/authorities/{authority.pk}"
    (folder / "own.cer").write_bytes(office.fetch(f"{base}.cer"))
    (folder / "list.crl").write_bytes(office.fetch(f"{base}.crl"))
    for name, kind in (("own.cer", "x509"), ("list.crl", "crl")):
        assert (
            openssl(folder, kind, "-inform", "DER", "-in", name, "-out", f"{name}.pem").returncode
            == 0
        )
    (folder / "leaf.pem").write_text(issued.pem)
    done = openssl(
        folder,
        "verify",
        "-x509_strict",
        "-crl_check",
        "-CAfile",
        "trust.pem",
        "-untrusted",
        "own.cer.pem",
        "-CRLfile",
        "list.crl.pem",
        "leaf.pem",
    )
    assert done.returncode == 0 or "certificate revoked" in done.stderr + done.stdout, done.stderr
    return done.returncode != 0


def workload_with_certificate(office: Office, **more: Any) -> tuple[Issued, Handover | None]:
    workload = workloads.add(
        office.by,
        workloads.WorkloadFields("Night run", "production", "job", "Freight desk", "02:10 daily"),
    )
    client, handover = drawing.give(office.by, workload, "certificate", "draw", **more)
    found = services.newest(client)
    assert found is not None
    return found, handover


def der(issued: Issued) -> bytes:
    return issued.certificate().public_bytes(Encoding.DER)
