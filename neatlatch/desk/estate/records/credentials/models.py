"""Credentials and the handover in which a new one is shown."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models

from neatlatch.core.secret import Secret
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.people.models import Owner


class Credential(models.Model):
    """A secret: of a client, a key, a password, a token, a private key.

    ``kind`` is the key of the profile's value that it serves.

    ``value`` is sealed; ``fingerprint`` is keyed; ``hint`` is its last four characters;
    ``public_key`` names a private key's other half.

    ``sent_to`` are the origins that it was cleared for
    (:mod:`neatlatch.desk.estate.connections.destinations`), ``drawn_by`` the workloads that may
    draw it itself.

    One that the house authority issued is recognised by its ``digest`` (SHA-256); its ``value`` is
    kept only until somebody has taken it, or while a connection of ours holds it. ``revoked`` and
    ``why`` say how it came to its end.

    With a private key that the house certified goes its ``chain``, the certificate and those above
    it but for the ``root``, in PEM.
    """

    class State(models.TextChoices):
        """Its life."""

        PREPARED = "prepared"
        ACTIVE = "active"
        RETIRING = "retiring"
        RETIRED = "retired"
        REVOKED = "revoked"

    # The states in which it lets in; its end is another question.
    LETS_IN = (State.PREPARED, State.ACTIVE, State.RETIRING)

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    client = models.ForeignKey(
        Client, null=True, on_delete=models.CASCADE, related_name="credentials"
    )
    kind = models.CharField(max_length=30, default="client_secret")
    value = models.BinaryField(null=True)
    digest = models.CharField(max_length=64, blank=True, db_index=True)
    fingerprint = models.CharField(max_length=64, db_index=True)
    hint = models.CharField(max_length=10)
    secret_id = models.CharField(max_length=200, blank=True, db_index=True)
    sent_to = models.JSONField(default=list)
    drawn_by = models.JSONField(default=list)
    state = models.CharField(max_length=10, choices=State.choices, default=State.ACTIVE)
    source = models.CharField(max_length=20, default="registered")
    issued = models.DateTimeField()
    ends = models.DateTimeField(null=True)
    public_key = models.CharField(max_length=64, blank=True)
    chain = models.TextField(blank=True)
    root = models.TextField(blank=True)
    looks_like_id = models.BooleanField(default=False)
    # Why it is easily guessed, as a sentence; empty: it is not weak.
    weak = models.CharField(max_length=200, blank=True)
    put_in_by = models.CharField(max_length=150, blank=True)
    # Whose it is; none: the owner of the workload that draws with it, or nobody.
    owner = models.ForeignKey(
        Owner, null=True, on_delete=models.PROTECT, related_name="credentials"
    )
    replaces = models.ForeignKey(
        "self", null=True, on_delete=models.SET_NULL, related_name="replaced_by"
    )
    last_used = models.DateTimeField(null=True)
    last_used_from = models.CharField(max_length=45, blank=True)
    revoked = models.DateTimeField(null=True)
    why = models.CharField(max_length=200, blank=True)

    class Meta:
        ordering = ["issued"]
        indexes = [models.Index(fields=["ends", "id"], name="what_ends_soonest")]

    @property
    def sealed_place(self) -> str:
        """Where the value is sealed."""
        return f"credential:{self.id}:value"

    def place_of(self, field: str) -> str:
        """Where a field is sealed."""
        return self.sealed_place

    def open(self) -> Secret:
        """The value. Raises :class:`safe.CannotOpen`."""
        if self.value is None:
            raise safe.CannotOpen(
                f"The value of {self.hint} is not kept: it was handed over, and only its "
                f"digest stayed."
            )
        return safe.unseal(self.value, self.sealed_place)

    @property
    def whole_chain(self) -> str:
        """The chain with its root, so that the end of all of it is known here.

        A receiver needs only ``chain``: it has the root already.
        """
        return self.chain + self.root

    @property
    def lives(self) -> bool:
        """Whether its state lets it in; its end is another question."""
        return self.state in self.LETS_IN


class Handover(models.Model):
    """The one moment when a new secret is shown: waiting, then shown, then closed for good.

    One that nobody took by its end revokes the secret.

    It has three forms: shown to its maker; a *link*, opened once by anyone who holds it together
    with a code told separately; a *file*, encrypted to the owner's key. ``to`` is whom it is
    for; ``taken_by`` and ``taken_from`` stand on the receipt; ``wrong`` counts wrong codes.
    """

    class Form(models.TextChoices):
        """How it is handed over."""

        SHOWN = "shown"
        LINK = "link"
        FILE = "file"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    credential = models.OneToOneField(Credential, on_delete=models.CASCADE, related_name="handover")
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    # The program that made it, by its name; empty: a person, or the schedule.
    made_by_program = models.CharField(max_length=150, blank=True)
    made = models.DateTimeField(auto_now_add=True)
    shown = models.DateTimeField(null=True)
    closed = models.DateTimeField(null=True)
    ends = models.DateTimeField(null=True)
    form = models.CharField(max_length=5, choices=Form.choices, default=Form.SHOWN)
    to = models.CharField(max_length=200, blank=True)
    link = models.CharField(max_length=64, blank=True, db_index=True)
    code = models.CharField(max_length=64, blank=True)
    wrong = models.PositiveSmallIntegerField(default=0)
    taken_by = models.CharField(max_length=200, blank=True)
    taken_from = models.CharField(max_length=45, blank=True)
    outcome = models.CharField(max_length=200, blank=True)

    @property
    def maker(self) -> str:
        """Who made it, as the journal says; empty: nobody is known."""
        return self.made_by.username if self.made_by else self.made_by_program


class StandsOut(models.Model):
    """The findings about a credential: the keys of its marks, with a space at each end, so that
    lists can be filtered by them (:mod:`neatlatch.desk.work.credentials.standing_out` writes it).

    ``stale``: something that they were worked out from has changed since; they hold to
    ``holds_until`` if nothing does. ``form`` names the rules they were worked out by.
    """

    credential = models.OneToOneField(
        Credential, on_delete=models.CASCADE, primary_key=True, related_name="stands_out"
    )
    stale = models.BooleanField(default=True)
    holds_until = models.DateTimeField(null=True)
    form = models.CharField(max_length=16, blank=True)
    marks = models.CharField(max_length=120, blank=True)

    class Meta:
        indexes = [
            models.Index(fields=["credential"], condition=models.Q(stale=True), name="stale_marks"),
            models.Index(fields=["holds_until"], name="marks_to_be_looked_at"),
        ]
