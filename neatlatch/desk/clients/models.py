"""Client registrations: the provider side of connections."""

from __future__ import annotations

import uuid

from django.db import models

from neatlatch.core.registration import ClientMetadata
from neatlatch.desk.applications.models import Place


class Client(models.Model):
    """A client as the application holds it.

    ``managed``: by protocol (RFC 7592), so what stands here is what stands there. Otherwise it is a mirror, entered by hand.
    ``state``: *asking* while a registration request is under way, *preparing* while somebody enters it by hand, then *live*.
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    place = models.ForeignKey(Place, on_delete=models.PROTECT, related_name="clients")
    name = models.CharField(max_length=200)
    contacts = models.JSONField(default=list)
    public = models.BooleanField(default=False)
    client_id = models.CharField(max_length=300, blank=True)
    redirect_uris = models.JSONField(default=list)
    grants = models.JSONField(default=list)
    scopes = models.JSONField(default=list)
    sign_in_method = models.CharField(max_length=40, default="client_secret_basic")
    consents = models.JSONField(default=dict)
    vendor_shared = models.BooleanField(default=False)
    managed = models.BooleanField(default=False)
    state = models.CharField(max_length=12, default="preparing")
    management_address = models.CharField(max_length=500, blank=True)
    management_token = models.BinaryField(null=True)
    ticks = models.JSONField(default=list)
    version = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField()
    changed_by = models.CharField(max_length=150, blank=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]

    def fields(self) -> ClientMetadata:
        """The registered fields as core wants them."""
        return ClientMetadata(self.name, tuple(self.contacts), self.public, tuple(self.redirect_uris), tuple(self.grants), frozenset(self.scopes),
                              self.sign_in_method)  # fmt: skip

    def put(self, fields: ClientMetadata) -> None:
        """Take fields over, without saving."""
        self.name, self.contacts, self.public = fields.name, list(fields.contacts), fields.public
        self.redirect_uris, self.grants, self.scopes = list(fields.redirect_uris), list(fields.grants), sorted(fields.scopes)
        self.sign_in_method = fields.sign_in_method

    @property
    def token_place(self) -> str:
        """Where the management token is sealed."""
        return f"client:{self.id}:management_token"
