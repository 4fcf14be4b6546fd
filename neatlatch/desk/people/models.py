"""People who log in, and their roles."""

from __future__ import annotations

from django.contrib.auth.models import AbstractUser
from django.db import models
from django.utils.crypto import salted_hmac


class Role(models.TextChoices):
    """What a person may do (DOMAIN §17)."""

    READER = "reader", "a reader"
    OPERATOR = "operator", "an operator"
    ADMINISTRATOR = "administrator", "an administrator"
    AUDITOR = "auditor", "an auditor"


class Person(AbstractUser):
    """Somebody who logs in. ``keys_on``: whether single keys act as shortcuts; ``left``: when they left the firm.

    ``factor`` is the sealed secret of their second factor, ``factor_begun`` one that they have not confirmed yet; ``factor_step`` the last time step whose
    code was taken; ``factor_wrong`` counts wrong proofs until ``factor_rests`` locks for a while; ``factor_since`` is when it was set up. ``epoch`` is raised to
    end all sessions. ``notices`` are what was done to their log-in by others, until they have read it.
    """

    role = models.CharField(max_length=20, choices=Role.choices, default=Role.READER)
    keys_on = models.BooleanField(default=True)

    left = models.DateTimeField(null=True)
    factor = models.BinaryField(null=True)
    factor_begun = models.BinaryField(null=True)
    factor_step = models.BigIntegerField(default=-1)
    factor_wrong = models.PositiveSmallIntegerField(default=0)
    factor_rests = models.DateTimeField(null=True)
    factor_since = models.DateTimeField(null=True)
    epoch = models.PositiveIntegerField(default=0)
    notices = models.JSONField(default=list)

    def _get_session_auth_hash(self, secret: str | None = None) -> str:
        """What a session holds to (Django asks at each request): it ends with the password, the role, the access, and with each epoch."""
        stands = f"{self.password}:{self.role}:{self.is_active}:{self.epoch}"
        return salted_hmac("neatlatch.people.session", stands, secret=secret, algorithm="sha256").hexdigest()

    @property
    def shown_name(self) -> str:
        """The name others see."""
        return self.get_full_name() or self.username

    def place_of(self, field: str) -> str:
        """Where a field is sealed."""
        return f"person:{self.pk}:{field}"


class Team(models.Model):
    """People who look after connections together, or who each connect an account of their own."""

    name = models.CharField(max_length=120, unique=True)
    people = models.ManyToManyField(Person, related_name="teams", blank=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name
