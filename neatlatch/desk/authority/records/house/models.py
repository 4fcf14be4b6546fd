"""What the house authority keeps: its signing keys, what it granted, and what it refused.

Codes and tokens are kept as digests only.
"""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.utils.crypto import constant_time_compare

from neatlatch.core.authority import rollover
from neatlatch.core.secret import Secret
from neatlatch.desk.estate.records.applications.models import Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common import safe


class SigningKey(models.Model):
    """A key that signs access tokens of an environment; see ``core.authority.rollover`` for its
    times. ``private`` is sealed PEM, ``public`` a JWK.
    """

    environment = models.ForeignKey(
        Environment, on_delete=models.PROTECT, related_name="signing_keys"
    )
    kid = models.CharField(max_length=43, unique=True)
    private = models.BinaryField()
    public = models.JSONField()
    published_from = models.DateTimeField()
    signs_from = models.DateTimeField()
    signs_until = models.DateTimeField(null=True)
    published_until = models.DateTimeField(null=True)
    made_by = models.CharField(max_length=150)

    class Meta:
        ordering = ["-signs_from"]

    def as_key(self) -> rollover.Key:
        """Its times, as core wants them."""
        return rollover.Key(
            self.kid, self.published_from, self.signs_from, self.signs_until, self.published_until
        )

    @property
    def sealed_place(self) -> str:
        """Where the private half is sealed."""
        return f"signing_key:{self.kid}:private"

    def place_of(self, field: str) -> str:
        """Where a field is sealed."""
        return self.sealed_place

    def open(self) -> Secret:
        """The private half. Raises :class:`safe.CannotOpen`."""
        return safe.unseal(self.private, self.sealed_place)


class Waiting(models.Model):
    """An authorization request that waits for a person's answer, or the reason why it cannot be put
    before one.
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    client = models.ForeignKey(Client, null=True, on_delete=models.CASCADE)
    redirect_uri = models.CharField(max_length=2000, blank=True)
    redirect_given = models.BooleanField(default=True)
    scopes = models.JSONField(default=list)
    challenge = models.CharField(max_length=43, blank=True)
    state = models.CharField(max_length=2000, blank=True)
    refused = models.CharField(max_length=600, blank=True)
    ends = models.DateTimeField()
    answered = models.DateTimeField(null=True)


class Grant(models.Model):
    """What a person allowed a client: the family of all tokens that come of it.

    Revoked, they all end.
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    client = models.ForeignKey(Client, on_delete=models.CASCADE, related_name="grants_given")
    person = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="grants_given"
    )
    scopes = models.JSONField()
    signed_in_at = models.DateTimeField()
    begun = models.DateTimeField()
    revoked = models.DateTimeField(null=True)
    why = models.CharField(max_length=200, blank=True)
    # What the person's log-in held to when they gave it.
    log_in = models.CharField(max_length=64, blank=True)

    @property
    def holds(self) -> bool:
        """Whether the person still may log in as they did: it ends with their password, role,
        access, and when they log out everywhere.
        """
        return self.person.is_active and constant_time_compare(
            self.log_in, self.person.get_session_auth_hash()
        )


class Code(models.Model):
    """An authorization code, by the digest of it."""

    digest = models.CharField(max_length=64, primary_key=True)
    grant = models.ForeignKey(Grant, on_delete=models.CASCADE, related_name="codes")
    redirect_uri = models.CharField(max_length=2000)
    redirect_given = models.BooleanField()
    challenge = models.CharField(max_length=43)
    ends = models.DateTimeField()
    used = models.DateTimeField(null=True)


class Refresh(models.Model):
    """A refresh token, by the digest of it. Each serves once."""

    digest = models.CharField(max_length=64, primary_key=True)
    grant = models.ForeignKey(Grant, on_delete=models.CASCADE, related_name="refresh_tokens")
    made = models.DateTimeField()
    ends = models.DateTimeField()
    used = models.DateTimeField(null=True)


class Access(models.Model):
    """An access token, by the digest of it.

    Its number says where it stands in the status lists. Ended ones are cleared away.
    """

    digest = models.CharField(max_length=64, unique=True, null=True)
    jti = models.CharField(max_length=32, unique=True)
    environment = models.ForeignKey(Environment, on_delete=models.CASCADE)
    client = models.ForeignKey(Client, on_delete=models.CASCADE, related_name="access_tokens")
    grant = models.ForeignKey(
        Grant, null=True, on_delete=models.CASCADE, related_name="access_tokens"
    )
    credential = models.ForeignKey(
        Credential, null=True, on_delete=models.SET_NULL, related_name="access_tokens"
    )
    scopes = models.JSONField()
    audience = models.CharField(max_length=500)
    issued = models.DateTimeField()
    ends = models.DateTimeField(db_index=True)
    revoked = models.DateTimeField(null=True)

    class Meta:
        indexes = [
            models.Index(
                fields=["environment", "id"],
                condition=Q(revoked__isnull=False),
                name="revoked_access",
            )
        ]


class GoneAccess(models.Model):
    """The number of an access token whose client was removed before the token ended: the status
    lists go on saying that it was revoked."""

    number = models.BigIntegerField(primary_key=True)
    environment = models.ForeignKey(Environment, on_delete=models.CASCADE)
    ends = models.DateTimeField(db_index=True)


class RegistrationRight(models.Model):
    """Lets anyone who holds its token register clients by protocol (RFC 7591 §3, the initial access
    token), for one application in one environment.

    ``ceiling`` is the most that such a client may have (:mod:`neatlatch.core.authority.ceiling`).
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    digest = models.CharField(max_length=64, unique=True)
    hint = models.CharField(max_length=10)
    deployment = models.ForeignKey(
        Deployment,
        on_delete=models.CASCADE,
        related_name="registration_rights",
        db_column="place_id",
    )
    made_by = models.CharField(max_length=150)
    made = models.DateTimeField()
    ends = models.DateTimeField()
    left = models.PositiveSmallIntegerField(default=1)
    ceiling = models.JSONField(default=dict)


class ProgramScope(models.Model):
    """Where the rights of a program hold: in all environments, or in some; and the workloads that
    it draws for. One whose environments are all gone holds nowhere.
    """

    client = models.OneToOneField(
        Client, primary_key=True, on_delete=models.CASCADE, related_name="program_scope"
    )
    everywhere = models.BooleanField(default=False)
    environments = models.ManyToManyField(Environment, related_name="+")
    # Where it may have people sent back to; compared as they stand.
    return_addresses = models.JSONField(default=list)
    # Those that it draws and relays for.
    workloads = models.ManyToManyField(Workload, related_name="drawn_for_by")

    @property
    def keys(self) -> frozenset[str] | None:
        """The keys of its environments; ``None``: all of them."""
        if self.everywhere:
            return None
        return frozenset(environment.key for environment in self.environments.all())


class RejectedRequest(models.Model):
    """A request that the house authority rejected, and what was really wrong; callers are not told.

    Only the newest are kept.
    """

    at = models.DateTimeField()
    environment = models.ForeignKey(Environment, on_delete=models.CASCADE)
    endpoint = models.CharField(max_length=20)
    what = models.CharField(max_length=60)
    client = models.ForeignKey(
        Client, null=True, on_delete=models.CASCADE, related_name="rejected_requests"
    )
    named = models.CharField(max_length=120, blank=True)
    address = models.CharField(max_length=45, blank=True)

    class Meta:
        db_table = "house_turned"
        ordering = ["-id"]
