"""People who log in, their roles, and what they log in with."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import AbstractUser
from django.contrib.sessions.base_session import AbstractBaseSession
from django.db import models
from django.db.models.functions import Lower
from django.utils.crypto import salted_hmac


class Role(models.TextChoices):
    """What a person may do (DOMAIN §17)."""

    READER = "reader", "a reader"
    OPERATOR = "operator", "an operator"
    ADMINISTRATOR = "administrator", "an administrator"
    AUDITOR = "auditor", "an auditor"


class Person(AbstractUser):
    """Somebody who logs in.

    ``keys_on``: whether single keys act as shortcuts; ``left``: when they left the firm.
    ``limits``: what their rights hold for, empty for everything
    (:class:`neatlatch.desk.estate.reaches.Limits`).

    ``must_change``: their password was given by somebody else, and lets them in only together with
    a new one. ``epoch`` is raised to end all sessions. ``notices`` are what was done to their
    log-in by others, until they have read it.

    ``factor`` is the sealed secret of their one-time codes, ``factor_begun`` one that they have not
    confirmed yet; ``factor_step`` the last time step whose code was taken; ``factor_wrong`` counts
    wrong proofs until ``factor_rests`` locks for a while; ``factor_since`` is when it was set up.
    """

    role = models.CharField(max_length=20, choices=Role.choices, default=Role.READER)
    keys_on = models.BooleanField(default=True)
    limits = models.JSONField(default=dict)

    left = models.DateTimeField(null=True)
    must_change = models.BooleanField(default=False)
    factor = models.BinaryField(null=True)
    factor_begun = models.BinaryField(null=True)
    factor_step = models.BigIntegerField(default=-1)
    factor_wrong = models.PositiveSmallIntegerField(default=0)
    factor_rests = models.DateTimeField(null=True)
    factor_since = models.DateTimeField(null=True)
    epoch = models.PositiveIntegerField(default=0)
    notices = models.JSONField(default=list)

    def _get_session_auth_hash(self, secret: str | None = None) -> str:
        """What a session holds to (Django asks at each request): it ends with the password, the
        role, the access, and with each epoch.
        """
        stands = f"{self.password}:{self.role}:{self.is_active}:{self.epoch}"
        return salted_hmac(
            "neatlatch.people.session", stands, secret=secret, algorithm="sha256"
        ).hexdigest()

    @property
    def shown_name(self) -> str:
        """The name others see."""
        return self.get_full_name() or self.username

    def place_of(self, field: str) -> str:
        """Where a field is sealed."""
        return f"person:{self.pk}:{field}"


class Passkey(models.Model):
    """A passkey as second factor (Web Authentication Level 2): its public key, and the last count
    of signatures that it told.
    """

    person = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="passkeys")
    name = models.CharField(max_length=60)
    credential_id = models.CharField(max_length=1400, unique=True)
    public_key = models.BinaryField()
    sign_count = models.BigIntegerField(default=0)
    added = models.DateTimeField()
    last_used = models.DateTimeField(null=True)

    class Meta:
        ordering = ["added"]


class Challenge(models.Model):
    """Something that was given out to be brought back once, by a digest of it: a challenge for a
    passkey to sign, or the code for one that has.
    """

    class Purpose(models.TextChoices):
        """What it is for."""

        ADD = "add"
        PROVE = "prove"
        CODE = "code"

    digest = models.CharField(max_length=64, unique=True)
    person = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="challenges")
    purpose = models.CharField(max_length=5, choices=Purpose.choices)
    passkey = models.ForeignKey(Passkey, null=True, on_delete=models.CASCADE)
    ends = models.DateTimeField()


class RecoveryCode(models.Model):
    """A code that stands in for a lost second factor, once; by its digest."""

    person = models.ForeignKey(Person, on_delete=models.CASCADE, related_name="recovery_codes")
    digest = models.CharField(max_length=64)
    used = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["person", "digest"], name="one_recovery_code_of_a_kind")
        ]


class Session(AbstractBaseSession):
    """Somebody who is logged in, by a digest of the session's key
    (:mod:`neatlatch.desk.ground.people.sessions`).
    """

    person = models.ForeignKey(Person, null=True, on_delete=models.CASCADE, related_name="sessions")
    begun = models.DateTimeField(null=True)
    seen = models.DateTimeField(null=True)
    address = models.CharField(max_length=45, blank=True)
    browser = models.CharField(max_length=200, blank=True)

    @classmethod
    def get_session_store_class(cls) -> Any:
        """The store of such sessions."""
        from .sessions import SessionStore  # the store asks for this model

        return SessionStore


class Tries(models.Model):
    """Wrong log-ins of a name, an address or both (:mod:`neatlatch.core.tries`), by a digest of
    which; ``known``: they have logged in from there before.
    """

    digest = models.CharField(max_length=64, primary_key=True)
    wrong = models.PositiveIntegerField(default=0)
    since = models.DateTimeField(null=True)
    until = models.DateTimeField(null=True)
    known = models.BooleanField(default=False)
    at = models.DateTimeField(db_index=True)


class Team(models.Model):
    """People who look after connections together, or who each connect an account of their own."""

    name = models.CharField(max_length=120, unique=True)
    people = models.ManyToManyField(Person, related_name="teams", blank=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Owner(models.Model):
    """Those who are asked before something of theirs changes: a person, a team, or a contact
    outside.

    ``name`` is theirs, kept here so that lists can be sorted and searched by it; ``address`` is
    where to write to (a person's is their own); ``zone`` is a name of the IANA time zone database;
    the ``deputy`` is asked where they cannot be.
    """

    class Kind(models.TextChoices):
        """What an owner is."""

        PERSON = "person"
        TEAM = "team"
        CONTACT = "contact"

    kind = models.CharField(max_length=8, choices=Kind.choices)
    person = models.OneToOneField(
        Person, null=True, on_delete=models.CASCADE, related_name="owning"
    )
    team = models.OneToOneField(Team, null=True, on_delete=models.SET_NULL, related_name="owning")
    name = models.CharField(max_length=150, db_index=True)
    address = models.EmailField(blank=True)
    zone = models.CharField(max_length=64, blank=True)
    deputy = models.ForeignKey(
        "self", null=True, on_delete=models.SET_NULL, related_name="deputy_of"
    )
    version = models.PositiveIntegerField(default=1)

    class Meta:
        ordering = ["name", "id"]
        constraints = [
            models.UniqueConstraint(
                Lower("name"),
                condition=models.Q(kind="contact"),
                name="one_contact_of_a_name",
            )
        ]

    @property
    def key(self) -> str:
        """How a file, or a form, names exactly this one: ``person/morag``, ``team/Quays``; a
        contact by its name alone.
        """
        if self.person is not None:
            return f"person/{self.person.username}"
        return f"team/{self.name}" if self.kind == self.Kind.TEAM else self.name

    @property
    def mail(self) -> str:
        """Where to write to; empty: not known."""
        return self.person.email if self.person is not None else self.address
