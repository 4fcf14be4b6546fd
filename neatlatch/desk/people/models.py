"""People who log in, and their roles."""

from __future__ import annotations

from django.contrib.auth.models import AbstractUser
from django.db import models


class Role(models.TextChoices):
    """What a person may do (DOMAIN §17)."""

    READER = "reader", "a reader"
    OPERATOR = "operator", "an operator"
    ADMINISTRATOR = "administrator", "an administrator"
    AUDITOR = "auditor", "an auditor"


class Person(AbstractUser):
    """Somebody who logs in. ``keys_on``: whether single keys act as shortcuts; ``left``: when they left the firm."""

    role = models.CharField(max_length=20, choices=Role.choices, default=Role.READER)
    keys_on = models.BooleanField(default=True)

    left = models.DateTimeField(null=True)

    @property
    def shown_name(self) -> str:
        """The name others see."""
        return self.get_full_name() or self.username


class Team(models.Model):
    """People who look after connections together, or who each connect an account of their own."""

    name = models.CharField(max_length=120, unique=True)
    people = models.ManyToManyField(Person, related_name="teams", blank=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name
