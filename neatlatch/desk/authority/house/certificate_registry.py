"""Keeping true what is known of certificates and tokens whose client is gone, and whose
certificates are admitted as which client.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.db.models.signals import post_delete
from django.dispatch import receiver
from django.utils import timezone

from neatlatch.desk.authority.records.certificates.models import (
    Authority,
    Issued,
    Revocation,
    Trust,
)
from neatlatch.desk.authority.records.house.models import Access, GoneAccess
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.credentials.models import Credential


def revoked(credential: Credential, now: datetime, reason: str) -> None:
    """Put the certificate of a credential, if it has one, on its authority's list; the next list is
    due at once. Part of the surrounding transaction.
    """
    issued = Issued.objects.filter(credential=credential, revoked=None).first()
    if issued is None:
        return
    Issued.objects.filter(pk=issued.pk).update(revoked=now, reason=reason)
    _enter(issued, now, reason)
    if credential.client is not None:
        tell(credential.client)


def _enter(issued: Issued, now: datetime, reason: str) -> None:
    Revocation.objects.get_or_create(
        authority_id=issued.authority_id,
        serial=issued.serial,
        defaults={"at": now, "reason": reason, "not_after": issued.not_after},
    )
    Authority.objects.filter(pk=issued.authority_id).update(list_fresh_until=None)


@receiver(post_delete, sender=Issued)
def _gone(sender: Any, instance: Issued, **kwargs: Any) -> None:
    """A certificate whose client was removed is not accepted any more."""
    now = timezone.now()
    if instance.revoked is None and instance.not_after > now:
        _enter(instance, now, "cessationOfOperation")


@receiver(post_delete, sender=Access)
def _token_gone(sender: Any, instance: Access, **kwargs: Any) -> None:
    """An access token whose client was removed is good no more: anyone who looks at the status
    lists alone is told so until it would have ended.
    """
    if instance.ends > timezone.now():
        GoneAccess.objects.get_or_create(
            number=instance.pk,
            defaults={"environment_id": instance.environment_id, "ends": instance.ends},
        )


def tell(client: Client) -> None:
    """Write down whose certificates the house would accept for this client, which is what the
    provider's side holds.
    """
    live = Issued.objects.filter(
        credential__client=client, profile="client", revoked=None, not_after__gt=timezone.now()
    )
    thumbprints = ", ".join(
        sha256.upper()
        for sha256 in live.order_by("-credential__issued").values_list("sha256", flat=True)
    )
    facts = Client.objects.values_list("facts", flat=True).get(pk=client.pk)
    if facts.get("thumbprint", "") != thumbprints:
        Client.objects.filter(pk=client.pk).update(
            facts={**facts, "thumbprint": thumbprints}, changed_at=timezone.now()
        )


def receiver_at(profile: str, deployment: int) -> str:
    """Who is shown certificates of a profile: the application in a deployment, its clients' ones;
    anyone who calls it, its servers' ones. As
    :class:`Trust` names them.
    """
    return f"shown:{deployment}" if profile == "client" else f"called:{deployment}"


def in_words(receiver: str, application: str) -> str:
    """A receiver as people say it, by its application's name."""
    return application if receiver.startswith("shown:") else f"those who call {application}"


def assume_trust(issued: Issued, by: str) -> None:
    """The receiver of the first certificate below a root has been set up with it: record that it
    trusts it.
    """
    root = issued.authority.root_id
    client = issued.credential.client
    if root is not None and client is not None:
        shown_to = receiver_at(issued.profile, client.deployment_id)
        Trust.objects.get_or_create(
            root_id=root, receiver=shown_to, defaults={"noted_by": by, "noted": timezone.now()}
        )
