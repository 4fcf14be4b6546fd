"""Client registrations: the provider side of connections."""

from __future__ import annotations

import uuid
from typing import Any, ClassVar, Self

from django.db import models

from neatlatch.core.registration import ClientMetadata
from neatlatch.core.schemes import BEARER, CERTIFICATE, CLIENT, CODE, OAUTH2, REGISTERED
from neatlatch.desk.estate.records.applications.models import Deployment

from .columns import HouseColumns, ManagementColumns, RegistrationColumns, SeenColumns


class Kind(models.TextChoices):
    """What a client is."""

    OAUTH_CLIENT = "oauth_client"
    ACCOUNT = "account"
    CERTIFICATE_HOLDER = "certificate_holder"
    RESOURCE_SERVER = "resource_server"
    WORKLOAD_KEY = "workload_key"
    PROGRAM = "program"


class Client(RegistrationColumns, ManagementColumns, SeenColumns, HouseColumns):
    """What an application knows us by: the provider's side. Its kind says what, and is its class: a
    row that is read is an :class:`OAuthClient`, an :class:`ProviderAccount` and so on.

    ``state``: *asking* while a registration request is under way, *preparing* while somebody enters
    it manually, then *live*.
    """

    # The kind of the rows of a class; empty: of any.
    KIND: ClassVar[Kind | None] = None

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    kind = models.CharField(max_length=20, choices=Kind.choices)
    deployment = models.ForeignKey(
        Deployment, on_delete=models.PROTECT, related_name="clients", db_column="place_id"
    )
    name = models.CharField(max_length=200)
    contacts = models.JSONField(default=list)
    state = models.CharField(max_length=12, default="preparing")
    version = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField()
    changed_by = models.CharField(max_length=150, blank=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]
        indexes = [models.Index(fields=["name", "id"], name="clients_by_name")]

    @classmethod
    def from_db(cls, *args: Any, **more: Any) -> Self:
        """A row as its own class, unless its kind was not asked for."""
        made = super().from_db(*args, **more)
        if "kind" in made.__dict__:
            made.__class__ = _CLASSES[made.kind]  # type: ignore[assignment]
        return made

    def save(self, *args: Any, **more: Any) -> None:
        """Save it, with the kind that its class stands for."""
        self.kind = self.KIND or self.kind
        if not self.kind:
            raise ValueError("a client is of a kind: make one of its classes")
        super().save(*args, **more)

    def fields(self) -> ClientMetadata:
        """The registered fields as core wants them."""
        return ClientMetadata(
            self.name,
            tuple(self.contacts),
            self.public,
            tuple(self.redirect_uris),
            tuple(self.grants),
            frozenset(self.scopes),
            self.sign_in_method,
        )

    def put(self, fields: ClientMetadata) -> None:
        """Take fields over, without saving."""
        self.name, self.contacts, self.public = fields.name, list(fields.contacts), fields.public
        self.redirect_uris, self.grants = list(fields.redirect_uris), list(fields.grants)
        self.scopes, self.sign_in_method = sorted(fields.scopes), fields.sign_in_method

    @property
    def parts(self) -> tuple[str, ...]:
        """What there is to see of it beside its name: *registration*, *redirect_uris*, *scopes*,
        *account*."""
        raise NotImplementedError

    @property
    def gets_tokens(self) -> bool:
        """Whether it is given tokens; a key or a certificate is shown itself."""
        return self.scheme in OAUTH2

    @property
    def keeps_secrets(self) -> bool:
        """Whether it has secrets: a public client proves itself by PKCE (RFC 7636), and who shows a
        certificate by that."""
        return self.scheme == BEARER or not (self.shows_certificate or self.public)

    @property
    def shows_certificate(self) -> bool:
        """Whether what it is given is a certificate with its key, and not a secret."""
        return self.scheme == CERTIFICATE

    @property
    def native(self) -> bool:
        """Whether it is a native app's, for which the port of a loopback address is free (RFC 8252
        §7.3): here, every public client.
        """
        return self.public

    @property
    def token_place(self) -> str:
        """Where the management token is sealed."""
        return f"client:{self.id}:management_token"

    def place_of(self, field: str) -> str:
        """Where a field is sealed."""
        return self.token_place


class _OfKind(models.Manager[Any]):
    """The rows of a class's own kind."""

    def get_queryset(self) -> models.QuerySet[Any]:
        """Only these."""
        return super().get_queryset().filter(kind=self.model.KIND)


class OAuthClient(Client):
    """A client of OAuth 2.0: registered at the application, or issued by the house."""

    KIND = Kind.OAUTH_CLIENT
    objects: ClassVar[models.Manager[Any]] = _OfKind()

    class Meta:
        proxy = True

    def put(self, fields: ClientMetadata) -> None:
        """Take fields over, without saving; its grants say whether people sign in with it."""
        super().put(fields)
        if self.scheme in REGISTERED:
            alone = (
                "client_credentials" in fields.grants and "authorization_code" not in fields.grants
            )
            self.scheme = CLIENT if alone else CODE

    @property
    def parts(self) -> tuple[str, ...]:
        """A client that signs with a key of its own (RFC 7523) is known by an account."""
        if self.scheme not in REGISTERED:
            return ("account", "scopes")
        uris = ("redirect_uris",) if self.scheme == CODE else ()
        return ("registration", *uris, "scopes")


class ProviderAccount(Client):
    """An account, key, token or password that an application knows us by."""

    KIND = Kind.ACCOUNT
    objects: ClassVar[models.Manager[Any]] = _OfKind()

    class Meta:
        proxy = True

    @property
    def parts(self) -> tuple[str, ...]:
        """The parts that its page shows: scopes of a house key, else whose it is, as recorded."""
        return ("scopes",) if self.house else ("account",)


class CertificateHolder(Client):
    """A caller that the application knows by the certificate it shows in TLS."""

    KIND = Kind.CERTIFICATE_HOLDER
    objects: ClassVar[models.Manager[Any]] = _OfKind()

    class Meta:
        proxy = True

    @property
    def parts(self) -> tuple[str, ...]:
        """Of a certificate that is not the house's, people note whose it is."""
        return () if self.house else ("account",)


class ResourceServer(Client):
    """An application itself, and not a caller of it: it asks the house authority about tokens that
    it is shown (RFC 7662), and its servers have certificates of the house."""

    KIND = Kind.RESOURCE_SERVER
    objects: ClassVar[models.Manager[Any]] = _OfKind()

    class Meta:
        proxy = True

    @property
    def parts(self) -> tuple[str, ...]:
        """The parts that its page shows: none, because nothing is registered."""
        return ()


class WorkloadKey(Client):
    """What a workload of connections draws with: a key, a client or a certificate of the house."""

    KIND = Kind.WORKLOAD_KEY
    objects: ClassVar[models.Manager[Any]] = _OfKind()

    class Meta:
        proxy = True

    @property
    def parts(self) -> tuple[str, ...]:
        """Its scopes say whether it may draw, or only relay."""
        return ("scopes",)


class ProgramClient(Client):
    """A program that calls the API of Neat Latch itself with a token of its own. Its scopes are its
    rights (:mod:`neatlatch.core.program_tokens`).
    """

    KIND = Kind.PROGRAM
    objects: ClassVar[models.Manager[Any]] = _OfKind()

    class Meta:
        proxy = True

    @property
    def parts(self) -> tuple[str, ...]:
        """Its rights have a page of their own."""
        return ()


_CLASSES: dict[str, type[Client]] = {
    str(subclass.KIND): subclass
    for subclass in (
        OAuthClient,
        ProviderAccount,
        CertificateHolder,
        ResourceServer,
        WorkloadKey,
        ProgramClient,
    )
}


def of_their_kinds(clients: list[Client]) -> list[Client]:
    """Rows that were read by other ways than Django's own, each as its own class."""
    for client in clients:
        client.__class__ = _CLASSES[client.kind]
    return clients


def class_of(scheme: str) -> type[Client]:
    """What a caller is that a scheme authenticates."""
    if scheme in OAUTH2:
        return OAuthClient
    return CertificateHolder if scheme == CERTIFICATE else ProviderAccount


class ConsentRequest(models.Model):
    """An administrator of the application was asked, by a signed link, to consent to scopes.

    Answered once, by anyone who holds the link.
    """

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
