"""The columns of a client, by what they are about. All kinds share one table."""

from __future__ import annotations

from typing import Any

from django.db import models

from neatlatch.core.schemes import CODE


class RegistrationColumns(models.Model):
    """What a client of OAuth 2.0 is registered with (RFC 7591 §2), and who consented to what.

    ``planned`` is a change that somebody enters manually in the application's screens and that is
    not noted as done yet.
    """

    public = models.BooleanField(default=False)
    client_id = models.CharField(max_length=300, blank=True)
    redirect_uris = models.JSONField(default=list)
    grants = models.JSONField(default=list)
    scopes = models.JSONField(default=list)
    scopes_changed_at = models.DateTimeField(null=True)
    sign_in_method = models.CharField(max_length=40, default="client_secret_basic")
    consents = models.JSONField(default=dict)
    planned: Any = models.JSONField(null=True)

    class Meta:
        abstract = True


class ManagementColumns(models.Model):
    """How the record is kept: ``managed`` by protocol (RFC 7592), so that what stands here is what
    stands there; else a mirror, entered manually, step by step (``ticks``)."""

    managed = models.BooleanField(default=False)
    management_address = models.CharField(max_length=500, blank=True)
    management_token = models.BinaryField(null=True)
    ticks = models.JSONField(default=list)

    class Meta:
        abstract = True


class SeenColumns(models.Model):
    """What the application's own screens show of us.

    ``facts`` are by the keys of the scheme's values (user name, key ID, thumbprint, audience);
    ``account`` is whose key or password it is, and ``account_kind`` service or person; ``rights``
    its roles or permissions; ``switches`` the firm-wide ones that are on.
    """

    scheme = models.CharField(max_length=40, default=CODE)
    facts = models.JSONField(default=dict)
    account = models.CharField(max_length=200, blank=True)
    account_kind = models.CharField(max_length=10, blank=True)
    rights = models.JSONField(default=list)
    rights_changed_at = models.DateTimeField(null=True)
    switches = models.JSONField(default=list)
    allow_list = models.JSONField(default=list)
    vendor_shared = models.BooleanField(default=False)

    class Meta:
        abstract = True


class HouseColumns(models.Model):
    """What our own authority issued (``house``), so that the record is the provider's side itself.

    ``management_digest`` recognises the token that it manages itself with (RFC 7592), within its
    ``ceiling``; ``pace``: the calls a second that its API keys are good for; ``workload``: whose it
    is, where a workload of connections draws with it.
    """

    house = models.BooleanField(default=False)
    management_digest = models.CharField(max_length=64, blank=True)
    ceiling = models.JSONField(default=dict)
    pace = models.FloatField(null=True)
    workload: Any = models.ForeignKey(
        "users.Workload", null=True, on_delete=models.CASCADE, related_name="keys"
    )

    class Meta:
        abstract = True
