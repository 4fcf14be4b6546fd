"""Applications, the environments of the firm, and where an application stands in each."""

from __future__ import annotations

from typing import Any

from django.db import models

from neatlatch.core import profiles
from neatlatch.core.metadata import ServerMetadata
from neatlatch.desk.ground.people.models import Owner

# Profiles that were read, by application: what they were read from, and what came of it.
_READ: dict[int, tuple[Any, profiles.Profile]] = {}
_MOST_READ = 2000


class Environment(models.Model):
    """An environment of the firm.

    ``look`` is how it is drawn: dashed, flat or striped; ``reveals``: a sealed secret may be shown
    again (DOMAIN §17); ``work_in_rounds``: rounds may do real work here, at connections that permit
    it too.
    """

    key = models.SlugField(unique=True)
    name = models.CharField(max_length=60, unique=True)
    order = models.PositiveSmallIntegerField(unique=True)
    look = models.CharField(max_length=10, default="flat")
    production = models.BooleanField(default=False)
    wants_service_account = models.BooleanField(default=False)
    reveals = models.BooleanField(default=False)
    work_in_rounds = models.BooleanField(default=False)

    class Meta:
        ordering = ["order"]

    def __str__(self) -> str:
        return self.name


class Application(models.Model):
    """A business application and its profile."""

    key = models.SlugField(max_length=80, unique=True)
    name = models.CharField(max_length=120, unique=True)
    purpose = models.CharField(max_length=300, blank=True)
    owner = models.ForeignKey(
        Owner, null=True, on_delete=models.PROTECT, related_name="applications"
    )
    documentation = models.URLField(blank=True)
    profile = models.JSONField(default=dict)
    version = models.PositiveIntegerField(default=1)
    changed_by = models.CharField(max_length=150, blank=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]

    @property
    def owner_name(self) -> str:
        """Whose it is; empty: nobody's."""
        return self.owner.name if self.owner is not None else ""

    def read_profile(self) -> profiles.Profile:
        """The profile as core wants it."""
        return profile_of(self.pk, self.profile)


def profile_of(application: int, kept: dict[str, Any]) -> profiles.Profile:
    """An application's profile as core wants it, from how it is kept.

    Read once for as long as it stays the same: a page of connections asks for it again and again.
    """
    read = _READ.get(application)
    if read is None or read[0] != kept:
        if len(_READ) >= _MOST_READ:
            _READ.clear()
        read = _READ[application] = (kept, profiles.from_dict(kept))
    return read[1]


class ProfileVersion(models.Model):
    """A profile that an application had before it was changed."""

    application = models.ForeignKey(Application, on_delete=models.CASCADE, related_name="versions")
    number = models.PositiveIntegerField()
    profile = models.JSONField()
    by = models.CharField(max_length=150)
    at = models.DateTimeField()

    class Meta:
        ordering = ["-number"]
        constraints = [
            models.UniqueConstraint(
                fields=["application", "number"], name="one_profile_of_a_number"
            )
        ]


class Deployment(models.Model):
    """An application in one environment: its addresses there, and its published metadata if it has
    any.

    ``house``: it accepts what the house authority issues, beside or in place of what it issues
    itself.

    ``more`` holds the addresses that have no column of their own, by the key of the profile's
    value. Any address may have slots.
    """

    application = models.ForeignKey(
        Application, on_delete=models.PROTECT, related_name="deployments"
    )
    environment = models.ForeignKey(
        Environment, on_delete=models.PROTECT, related_name="deployments"
    )
    issuer = models.CharField(max_length=500, blank=True)
    authorization_endpoint = models.CharField(max_length=500, blank=True)
    token_endpoint = models.CharField(max_length=500, blank=True)
    api_base = models.CharField(max_length=500, blank=True)
    more = models.JSONField(default=dict)
    house = models.BooleanField(default=False)
    metadata_address = models.CharField(max_length=500, blank=True)
    metadata: Any = models.JSONField(null=True, blank=True)
    read_at = models.DateTimeField(null=True, blank=True)
    changed_at = models.DateTimeField()

    class Meta:
        # Table and columns keep the names that they were made with: a change of them would make
        # every table anew that points here, and every trigger on those.
        db_table = "applications_place"
        ordering = ["environment__order"]
        constraints = [
            models.UniqueConstraint(
                fields=["application", "environment"], name="one_place_for_an_environment"
            )
        ]

    def read_metadata(self) -> ServerMetadata | None:
        """The published metadata, if it was read."""
        return ServerMetadata.from_dict(self.metadata) if self.metadata else None

    def published(self, field: str, slots: dict[str, str] | None = None) -> str:
        """One address out of the metadata, else as it was entered manually, or nothing; ``slots``
        are filled in.
        """
        return profiles.fill_slots(
            str((self.metadata or {}).get(field) or self.more.get(field, "")), slots or {}
        )

    def by_key(self) -> dict[str, str]:
        """All addresses, by the key of the profile's value."""
        named = {
            "issuer": self.issuer,
            "authorization_endpoint": self.authorization_endpoint,
            "token_endpoint": self.token_endpoint,
            "api_base": self.api_base,
        }
        return {key: address for key, address in {**named, **self.more}.items() if address}

    def addresses(self) -> tuple[str, ...]:
        """All addresses that belong to this environment."""
        return tuple(self.by_key().values())
