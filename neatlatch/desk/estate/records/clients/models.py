"""Client registrations: the provider side of connections."""

from __future__ import annotations

import uuid
from typing import Any

from django.db import models

from neatlatch.core.registration import ClientMetadata
from neatlatch.core.schemes import CLIENT, CODE
from neatlatch.desk.estate.records.applications.models import Place


class Client(models.Model):
    """A client as the application holds it; for a scheme without clients, the account, key or certificate that it knows us by.

    ``facts`` are by the keys of the scheme's values (user name, key ID, thumbprint, audience); ``account`` is whose key or password it is, and
    ``account_kind`` service or person; ``rights`` its roles or permissions; ``switches`` the firm-wide ones that are on.

    ``planned`` is a change that somebody enters by hand in the application's screens and that is not noted as done yet.

    ``house``: issued by our own authority, so that the record is the provider's side itself; ``resource``: it is an application that asks the authority about
    tokens it was shown, and not a caller; ``pace``: the calls a second that its API keys are good for;
    ``user``: whose it is, where a user of connections draws with it.

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
    house = models.BooleanField(default=False)
    resource = models.BooleanField(default=False)
    management_digest = models.CharField(max_length=64, blank=True)
    ceiling = models.JSONField(default=dict)
    pace = models.FloatField(null=True)
    user: Any = models.ForeignKey("users.User", null=True, on_delete=models.CASCADE, related_name="keys")
    state = models.CharField(max_length=12, default="preparing")
    management_address = models.CharField(max_length=500, blank=True)
    management_token = models.BinaryField(null=True)
    ticks = models.JSONField(default=list)
    scheme = models.CharField(max_length=40, default=CODE)
    facts = models.JSONField(default=dict)
    account = models.CharField(max_length=200, blank=True)
    account_kind = models.CharField(max_length=10, blank=True)
    rights = models.JSONField(default=list)
    rights_changed_at = models.DateTimeField(null=True)
    scopes_changed_at = models.DateTimeField(null=True)
    switches = models.JSONField(default=list)
    allow_list = models.JSONField(default=list)
    planned: Any = models.JSONField(null=True)
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
        if self.scheme in (CODE, CLIENT):
            self.scheme = CLIENT if "client_credentials" in fields.grants and "authorization_code" not in fields.grants else CODE

    @property
    def native(self) -> bool:
        """Whether it is a native app's, for which the port of a loopback address is free (RFC 8252 §7.3): here, every public client."""
        return self.public

    @property
    def token_place(self) -> str:
        """Where the management token is sealed."""
        return f"client:{self.id}:management_token"

    def place_of(self, field: str) -> str:
        """Where a field is sealed."""
        return self.token_place


class ConsentRequest(models.Model):
    """An administrator of the application was asked, by a signed link, to consent to scopes. Answered once, by whoever holds the link."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    client = models.ForeignKey(Client, on_delete=models.CASCADE, related_name="consent_requests")
    scopes = models.JSONField()
    why = models.JSONField(default=dict)
    asked_of = models.CharField(max_length=200, blank=True)
    asked_by = models.CharField(max_length=150)
    asked_at = models.DateTimeField()
    ends = models.DateTimeField()
    answered_at = models.DateTimeField(null=True)
    given = models.JSONField(default=list)
    answered_by = models.CharField(max_length=200, blank=True)
    says = models.CharField(max_length=600, blank=True)
    withdrawn = models.BooleanField(default=False)

    class Meta:
        ordering = ["-asked_at"]
