"""Credentials and the handover in which a new one is shown."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models

from neatlatch.core.secret import Secret
from neatlatch.desk.clients.models import Client
from neatlatch.desk.common import safe


class Credential(models.Model):
    """A secret: of a client, a key, a password, a token, a private key. ``kind`` is the key of the profile's value that it serves.

    ``value`` is sealed; ``fingerprint`` is keyed; ``hint`` is its last four characters; ``public_key`` names a private key's other half.
    """

    class State(models.TextChoices):
        """Its life."""

        ACTIVE = "active"
        RETIRED = "retired"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    client = models.ForeignKey(Client, null=True, on_delete=models.CASCADE, related_name="credentials")
    kind = models.CharField(max_length=30, default="client_secret")
    value = models.BinaryField()
    fingerprint = models.CharField(max_length=64, db_index=True)
    hint = models.CharField(max_length=10)
    secret_id = models.CharField(max_length=200, blank=True)
    state = models.CharField(max_length=10, choices=State.choices, default=State.ACTIVE)
    source = models.CharField(max_length=20, default="registered")
    issued = models.DateTimeField()
    ends = models.DateTimeField(null=True)
    public_key = models.CharField(max_length=64, blank=True)
    looks_like_id = models.BooleanField(default=False)
    put_in_by = models.CharField(max_length=150, blank=True)

    class Meta:
        ordering = ["issued"]

    @property
    def sealed_place(self) -> str:
        """Where the value is sealed."""
        return f"credential:{self.id}:value"

    def open(self) -> Secret:
        """The value. Raises :class:`safe.CannotOpen`."""
        return safe.unseal(self.value, self.sealed_place)


class Handover(models.Model):
    """The one moment when a new secret is shown: waiting, then shown, then closed for good."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    credential = models.OneToOneField(Credential, on_delete=models.CASCADE, related_name="handover")
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    made = models.DateTimeField(auto_now_add=True)
    shown = models.DateTimeField(null=True)
    closed = models.DateTimeField(null=True)
