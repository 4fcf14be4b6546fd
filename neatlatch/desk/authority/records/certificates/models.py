"""The house's certificate authorities, what they issued, and who trusts them."""

from __future__ import annotations

import uuid

from cryptography import x509
from django.db import models

from neatlatch.core.secret import Secret
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common import safe


class Authority(models.Model):
    """A certificate authority of an environment: a root, or the issuing one below it.

    ``private`` is sealed PEM, and destroyed when it is retired.

    ``revocations`` is the newest list it signed, in DER; where ``list_fresh_until`` is past or
    empty, a new one is due.
    """

    class State(models.TextChoices):
        """Its life: made, signing, replaced but still trusted, gone."""

        PREPARED = "prepared"
        ISSUING = "issuing"
        LEAVING = "leaving"
        RETIRED = "retired"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    environment = models.ForeignKey(
        Environment, on_delete=models.PROTECT, related_name="certificate_authorities"
    )
    root = models.ForeignKey("self", null=True, on_delete=models.PROTECT, related_name="below")
    name = models.CharField(max_length=64)
    pem = models.TextField()
    private = models.BinaryField(null=True)
    state = models.CharField(max_length=8, choices=State.choices, default=State.ISSUING)
    not_after = models.DateTimeField()
    made = models.DateTimeField()
    made_by = models.CharField(max_length=150)
    revocations = models.BinaryField(null=True)
    list_number = models.PositiveIntegerField(default=0)
    list_fresh_until = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-made"]

    @property
    def sealed_place(self) -> str:
        """Where its key is sealed."""
        return f"authority:{self.pk}:private"

    def place_of(self, field: str) -> str:
        """Where a field is sealed."""
        return self.sealed_place

    def open(self) -> Secret:
        """Its key in PEM. Raises :class:`safe.CannotOpen`."""
        if self.private is None:
            raise safe.CannotOpen(f"The key of {self.name} was destroyed when it was retired.")
        return safe.unseal(self.private, self.sealed_place)

    def certificate(self) -> x509.Certificate:
        """Its certificate."""
        return x509.load_pem_x509_certificate(self.pem.encode("ascii"))


class Issued(models.Model):
    """A certificate that the house issued.

    Its credential has the key, where the house made it, and is how it is listed, handed over and
    revoked.
    """

    credential = models.OneToOneField(
        Credential, on_delete=models.CASCADE, primary_key=True, related_name="certificate"
    )
    authority = models.ForeignKey(Authority, on_delete=models.PROTECT, related_name="issued")
    profile = models.CharField(max_length=6)
    common_name = models.CharField(max_length=64)
    names = models.JSONField(default=list)
    serial = models.CharField(max_length=40)
    sha256 = models.CharField(max_length=64, unique=True)
    pem = models.TextField()
    not_after = models.DateTimeField()
    by_request = models.BooleanField(default=False)
    revoked = models.DateTimeField(null=True)
    reason = models.CharField(max_length=30, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["authority", "serial"], name="serial_once")]
        indexes = [models.Index(fields=["not_after", "credential"], name="certificates_by_end")]

    def certificate(self) -> x509.Certificate:
        """The certificate."""
        return x509.load_pem_x509_certificate(self.pem.encode("ascii"))

    def chain(self) -> str:
        """What its holder shows: the certificate, and the issuing authority's."""
        return self.pem + self.authority.pem


class Trust(models.Model):
    """That a receiver of certificates trusts a root.

    ``receiver``: ``shown:<deployment>`` is an application that clients show theirs to,
    ``called:<deployment>`` those who call an application that shows its own.
    """

    root = models.ForeignKey(Authority, on_delete=models.CASCADE, related_name="trusted_by")
    receiver = models.CharField(max_length=60)
    noted_by = models.CharField(max_length=150)
    noted = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["root", "receiver"], name="trust_once")]


class Revocation(models.Model):
    """An entry of an authority's revocation list.

    It outlives the certificate's own row, because a list must name it as long as it could be shown.
    """

    authority = models.ForeignKey(Authority, on_delete=models.CASCADE, related_name="entries")
    serial = models.CharField(max_length=40)
    at = models.DateTimeField()
    reason = models.CharField(max_length=30)
    not_after = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["authority", "serial"], name="entry_once")]
