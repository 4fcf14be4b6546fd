"""Connections: the caller side, its tokens and its sign-ins."""

from __future__ import annotations

import json
import uuid
from collections.abc import Mapping
from copy import copy
from types import MappingProxyType
from typing import Any

from django.conf import settings
from django.db import models

from neatlatch.core import health, references
from neatlatch.core.health import State
from neatlatch.core.schemes import SIGNING_SECRET, Scheme
from neatlatch.core.secret import Secret
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.fetched import those_of
from neatlatch.desk.ground.people.models import Team

# The key of an environment, a slash, and a name.
REFERENCE_LENGTH = 50 + 1 + references.LONGEST_NAME


class Connection(models.Model):
    """One way from us into one application in one environment.

    ``name`` is the same for one purpose in each environment; ``ref``, the reference, has the
    environment's key in front (:mod:`neatlatch.core.references`). ``values`` are the profile's,
    without secrets.

    ``individual``: each person of the team (none: those who were asked) connects an account of
    their own; else one account is shared. ``tests_as`` is then the service account that tests use
    (empty: they sign in as a person and call nothing). ``work_in_rounds``: rounds may do real work,
    where the environment permits that too. ``test_interval``: rounds that begin on schedule leave
    it out until its last test is so many minutes old (0: every round tests it). ``failed_rung`` is
    where the last failure was, until a test that goes as far has passed; ``passes`` are those in a
    row since it was open.
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    name = models.SlugField(max_length=references.LONGEST_NAME, db_index=False)
    ref = models.CharField(max_length=REFERENCE_LENGTH, unique=True)
    deployment = models.ForeignKey(
        Deployment, on_delete=models.PROTECT, related_name="connections", db_column="place_id"
    )
    client = models.ForeignKey(
        Client, null=True, on_delete=models.PROTECT, related_name="connections"
    )
    scheme = models.CharField(max_length=40)
    values = models.JSONField(default=dict)
    slots = models.JSONField(default=dict)
    scopes = models.JSONField(default=list)
    individual = models.BooleanField(default=False)
    team = models.ForeignKey(Team, null=True, on_delete=models.SET_NULL, related_name="connections")
    scopes_changed_at = models.DateTimeField(null=True)
    pace = models.FloatField(default=10.0)
    time_limit = models.FloatField(default=30.0)
    paused = models.BooleanField(default=False)
    test_interval = models.PositiveIntegerField(default=0)
    tests_as = models.CharField(max_length=200, blank=True)
    work_in_rounds = models.BooleanField(default=False)
    version = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField()
    changed_by = models.CharField(max_length=150, blank=True)
    created = models.DateTimeField(auto_now_add=True)

    state = models.CharField(
        max_length=12,
        choices=[(state.value, state.value) for state in State],
        default=State.NOT_PROVEN.value,
    )
    score = models.FloatField(default=0.0)
    same_failures = models.PositiveSmallIntegerField(default=0)
    last_class = models.CharField(max_length=20, blank=True)
    failing = models.CharField(max_length=300, blank=True)
    failed_rung = models.CharField(max_length=10, blank=True)
    passes = models.PositiveSmallIntegerField(default=0)
    proven_at = models.DateTimeField(null=True)
    # When a test last showed that the client's own secret is taken, where people sign in.
    secret_taken_at = models.DateTimeField(null=True)
    tested_at = models.DateTimeField(null=True)
    # The last tests, as :func:`neatlatch.core.health.with_latest` keeps them.
    recent = models.JSONField(default=list)

    class Meta:
        ordering = ["ref"]
        indexes = [models.Index(fields=["name"], name="connections_by_name")]

    # The columns that :meth:`forget_health` changes.
    HEALTH = ("state", "score", "same_failures", "last_class", "failing", "failed_rung", "passes")

    # What is shown in place of the secrets that are held.
    _shown: Mapping[str, Credential] = MappingProxyType({})

    def secrets(self) -> dict[str, Credential]:
        """The secrets of the caller side, by the keys of the scheme's values.

        One that is only referred to, its value not in the safe, is none.
        """
        return {
            held_secret.key: held_secret.credential
            for held_secret in those_of(self, "held_secrets")
            if held_secret.credential.fingerprint
        } | {**self._shown}

    def sent_secrets(self) -> dict[str, Credential]:
        """Those of :meth:`secrets` that requests are made with."""
        return {key: held for key, held in self.secrets().items() if key != SIGNING_SECRET}

    def read_scheme(self) -> Scheme:
        """The way in that it goes by, as its application's profile has it."""
        return self.deployment.application.read_profile().scheme_for(self.scheme)

    def showing(self, secrets: Mapping[str, Credential], values: Mapping[str, str]) -> Connection:
        """A copy that shows other secrets and values than it holds, to try them out.

        It is not saved: nothing says that they are the connection's.
        """
        other = copy(self)
        other._shown, other.values = dict(secrets), {**self.values, **values}
        return other

    def save(self, *args: Any, **more: Any) -> None:
        """Save it, unless it shows what it does not hold."""
        if self._shown:
            raise ValueError("this copy of a connection shows secrets that it does not hold")
        super().save(*args, **more)

    def forget_health(self) -> None:
        """After a change on either side the past counts no more. Does not save."""
        fresh = health.after_change(health.Health())
        self.state, self.score = fresh.state.value, fresh.score
        self.same_failures, self.last_class, self.passes = fresh.same_failures, "", 0
        self.failing, self.failed_rung = "", ""

    @property
    def tokens(self) -> TokenSet | None:
        """The tokens of the shared account; of an individual connection, those of one person, the
        freshest.
        """
        sets = [
            token_set
            for token_set in those_of(self, "token_sets")
            if (token_set.person_id is not None) == self.individual
        ]
        return max(sets, key=lambda set_: set_.signed_in_at, default=None)

    @property
    def tests_tokens(self) -> TokenSet | None:
        """The tokens of the service account that tests use, where each person has their own."""
        sets = [
            token_set for token_set in those_of(self, "token_sets") if token_set.person_id is None
        ]
        return sets[0] if self.individual and self.tests_as and sets else None

    @property
    def credential(self) -> Credential | None:
        """The secret that people mean by “the secret” of this connection: the first that was asked
        for.
        """
        return next(iter(self.sent_secrets().values()), None)


class FormerName(models.Model):
    """A name that a connection had: workloads may still draw it by that, in its environment, until
    nobody has for a while.

    ``used_by`` is the workload that last did (``used_at`` empty: none has since the change).
    """

    environment = models.ForeignKey(Environment, on_delete=models.CASCADE, related_name="+")
    name = models.SlugField(max_length=references.LONGEST_NAME, db_index=False)
    connection = models.ForeignKey(
        Connection, on_delete=models.CASCADE, related_name="former_names"
    )
    changed_at = models.DateTimeField()
    changed_by = models.CharField(max_length=150, blank=True)
    used_at = models.DateTimeField(null=True)
    used_by = models.CharField(max_length=200, blank=True)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.UniqueConstraint(
                fields=["environment", "name"], name="one_former_name_in_an_environment"
            )
        ]


class HeldSecret(models.Model):
    """A secret of a connection's caller side.

    ``key`` is that of the profile's value: a connection may need several.
    """

    connection = models.ForeignKey(
        Connection, on_delete=models.CASCADE, related_name="held_secrets"
    )
    key = models.CharField(max_length=60)
    credential = models.ForeignKey(Credential, on_delete=models.PROTECT, related_name="holders")

    class Meta:
        ordering = ["id"]
        constraints = [
            models.UniqueConstraint(fields=["connection", "key"], name="one_secret_for_a_value")
        ]


class Account(models.Model):
    """A person who has been asked to connect an account of their own, or has.

    ``expected`` is what their account is called there, if anybody said.
    """

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="accounts")
    person = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="accounts"
    )
    expected = models.CharField(max_length=200, blank=True)
    asked_at = models.DateTimeField(null=True)
    asked_by = models.CharField(max_length=150, blank=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["connection", "person"], name="one_account_of_a_person")
        ]


class TokenSet(models.Model):
    """The tokens of a connection; ``person`` whose they are, where each has their own (none: those
    of the service account for tests). ``generation`` rises with each renewal; ``lease`` names who
    is renewing now, and until when; ``sent_to`` are the origins that they were cleared for.
    """

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="token_sets")
    person = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.CASCADE, related_name="token_sets"
    )
    access = models.BinaryField()
    refresh = models.BinaryField(null=True)
    granted = models.JSONField(default=list)
    sent_to = models.JSONField(default=list)
    account = models.CharField(max_length=200, blank=True)
    signed_in_at = models.DateTimeField()
    obtained = models.DateTimeField()
    ends = models.DateTimeField(null=True)
    generation = models.PositiveIntegerField(default=1)
    lease = models.CharField(max_length=64, blank=True)
    lease_until = models.DateTimeField(null=True)
    refused = models.CharField(max_length=300, blank=True)
    # When the provider was last asked whether the refresh token lives.
    asked_at = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["connection", "person"], name="one_token_set_of_a_person"
            ),
            models.UniqueConstraint(
                fields=["connection"], condition=models.Q(person=None), name="one_shared_token_set"
            ),
        ]

    @property
    def _place(self) -> str:
        return f"token:{self.connection_id}" + (f":{self.person_id}" if self.person_id else "")

    def place_of(self, field: str) -> str:
        """Where a field is sealed."""
        return f"{self._place}:{field}"

    def seal(self, access: str, refresh: str | None) -> None:
        """Seal new tokens, without saving.

        Without a new refresh token the old one stays (RFC 6749 §6).
        """
        self.access = safe.seal(access, f"{self._place}:access")
        if refresh is not None:
            self.refresh = safe.seal(refresh, f"{self._place}:refresh")

    def open_access(self) -> Secret:
        """The access token."""
        return safe.unseal(self.access, f"{self._place}:access")

    def open_refresh(self) -> Secret:
        """The refresh token; empty if there is none."""
        return safe.unseal(self.refresh, f"{self._place}:refresh") if self.refresh else Secret("")


class SetAside(models.Model):
    """The tokens of a wrong account that signed in to a shared connection, until somebody chooses.

    ``tokens`` is what the provider gave, sealed; ``sent_to`` are the origins that they were cleared
    for then; ``chosen_at`` is when somebody chose what becomes of them, while that is being done.
    """

    connection = models.OneToOneField(
        Connection, on_delete=models.CASCADE, related_name="set_aside"
    )
    tokens = models.BinaryField()
    sent_to = models.JSONField(default=list)
    account = models.CharField(max_length=200)
    at = models.DateTimeField()
    by = models.CharField(max_length=150)
    chosen_at = models.DateTimeField(null=True)

    def place_of(self, field: str) -> str:
        """Where a field is sealed."""
        return f"set_aside:{self.connection_id}:{field}"

    def open_tokens(self) -> Mapping[str, Any]:
        """What the provider gave: the fields of its answer that were kept.

        Raises :class:`safe.CannotOpen`.
        """
        found: dict[str, Any] = json.loads(
            safe.unseal(self.tokens, self.place_of("tokens")).reveal()
        )
        return found


class SignIn(models.Model):
    """A person on the way to an application and back.

    ``state`` is kept as a fingerprint, ``verifier`` sealed; ``for_tests``: as the service account
    for tests.
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="sign_ins")
    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    state = models.CharField(max_length=64, unique=True)
    verifier = models.BinaryField()
    redirect_uri = models.CharField(max_length=500)
    issuer = models.CharField(max_length=500)
    back = models.CharField(max_length=300)
    for_tests = models.BooleanField(default=False)
    begun = models.DateTimeField(auto_now_add=True)
    ended = models.DateTimeField(null=True)
    outcome = models.CharField(max_length=20, blank=True)
    says = models.CharField(max_length=600, blank=True)

    def place_of(self, field: str) -> str:
        """Where a field is sealed."""
        return f"sign_in:{self.pk}:{field}"


class Summary(models.Model):
    """What lists show of a connection, worked out from both its halves by one function
    (:mod:`neatlatch.desk.estate.connections.summaries`), which is the only one that writes it.

    ``stale``: something that it was worked out from has changed since (triggers say so); it holds
    to ``holds_until`` if nothing does. ``form`` names the rules it was worked out by. ``fits`` has
    a letter for each pin (:data:`FITS`), ``off`` the keys of those that are off the line, with a
    space at each end; ``out``: one differs or is missing. ``says`` is for who cannot see the glyph,
    ``beside`` the few words beside it. ``lacks`` names the values that it wants before anybody can
    try it. ``next_rank``: what breaks next has broken (0), will at ``next_at`` (1), or is not known
    (2).
    """

    connection = models.OneToOneField(
        Connection, on_delete=models.CASCADE, primary_key=True, related_name="summary"
    )
    stale = models.BooleanField(default=True)
    holds_until = models.DateTimeField(null=True)
    worked_out = models.DateTimeField(null=True)
    form = models.CharField(max_length=16, blank=True)
    # The connection's, so that what breaks next is in order by one index.
    ref = models.CharField(max_length=REFERENCE_LENGTH, blank=True)
    fits = models.CharField(max_length=60, blank=True)
    off = models.TextField(blank=True)
    out = models.BooleanField(default=False)
    says = models.TextField(blank=True)
    beside = models.TextField(blank=True)
    workloads = models.PositiveIntegerField(default=0)
    lacks = models.JSONField(default=list)
    next_rank = models.PositiveSmallIntegerField(default=2)
    next_at = models.DateTimeField(null=True)
    next_why = models.TextField(blank=True)
    next_act = models.CharField(max_length=30, blank=True)
    next_label = models.TextField(blank=True)
    next_stops = models.JSONField(default=list)

    class Meta:
        indexes = [
            models.Index(
                fields=["connection"], condition=models.Q(stale=True), name="stale_summaries"
            ),
            models.Index(fields=["holds_until"], name="summaries_to_be_looked_at"),
            models.Index(
                fields=["next_rank", "next_at", "ref"],
                condition=models.Q(next_rank__lt=2),
                name="what_breaks_next",
            ),
        ]


class Standing(models.Model):
    """How an application stands in all its environments: what Today's wall is ordered by.

    Written as summaries are.

    ``worst`` is the rank of its worst connection (:data:`WORST`); the others count its connections.
    """

    application = models.OneToOneField(
        Application, on_delete=models.CASCADE, primary_key=True, related_name="standing"
    )
    stale = models.BooleanField(default=True)
    name = models.CharField(max_length=120, blank=True)
    worst = models.PositiveSmallIntegerField(default=5)
    latched = models.PositiveIntegerField(default=0)
    sticking = models.PositiveIntegerField(default=0)
    unlatched = models.PositiveIntegerField(default=0)
    not_proven = models.PositiveIntegerField(default=0)
    ruled_out = models.PositiveIntegerField(default=0)

    class Meta:
        indexes = [
            models.Index(
                fields=["application"], condition=models.Q(stale=True), name="stale_standings"
            ),
            models.Index(fields=["worst", "name"], name="the_wall"),
        ]
