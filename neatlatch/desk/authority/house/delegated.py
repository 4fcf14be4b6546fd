"""Calling the API in a person's name: what ``nlatch login`` gets by the authorization code grant
(RFC 6749 §4.1) with a loopback redirect (RFC 8252 §7.3), at the house authority itself.

Such a token holds while the person's log-in does: it ends with their password, their role and
their access, and when they log out everywhere.
"""

from __future__ import annotations

from datetime import datetime

from django.db import transaction

from neatlatch.core import house_key
from neatlatch.core.authority.refusing import RequestRefused
from neatlatch.core.program_tokens import ProgramGrant, ProgramRight
from neatlatch.core.registration import ClientMetadata
from neatlatch.core.schemes import CODE
from neatlatch.desk.authority.records.house.models import Access
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.ground.common.actors import HOUSE
from neatlatch.desk.ground.people.actors import DelegatedCaller

from . import issuing
from .own import own_deployment

# The client ID of the command line: the same in every environment, so that it needs no set-up.
COMMAND_LINE = "nlatch"
# What a person may let it do in their name; drawing is for workloads.
RIGHTS = tuple(right for right in ProgramRight if right is not ProgramRight.DRAW)


def environment_of_logins() -> Environment | None:
    """Return the environment whose authority people log in at: the most productive one; ``None``
    where there is none yet.
    """
    return Environment.objects.order_by("-production", "order").first()


@transaction.atomic
def command_line(environment: Environment) -> Client:
    """Return the command line as a client of the house, made when it is first needed."""
    deployment = own_deployment(environment)
    found = Client.objects.filter(deployment=deployment, client_id=COMMAND_LINE).first()
    if found is not None:
        return found
    fields = ClientMetadata(
        "Command line (nlatch)",
        public=True,
        # RFC 8252 §7.3: the port is any.
        redirect_uris=("http://127.0.0.1/login",),
        grants=("authorization_code", "refresh_token"),
        scopes=frozenset(right.value for right in RIGHTS),
    )
    return issuing.new_client(HOUSE, deployment, fields, CODE, client_id=COMMAND_LINE)


def recognise(text: str, now: datetime) -> DelegatedCaller:
    """Return whose access token a text is. Raises :class:`RequestRefused`, which tells callers
    nothing and the log everything.
    """
    row = (
        Access.objects.select_related(
            "client__deployment__application", "client__deployment__environment", "grant__person"
        )
        .filter(digest=house_key.digest(text))
        .first()
    )
    if row is None:
        raise _refused("token unknown")
    why = "token revoked" if row.revoked else "token ended" if row.ends <= now else ""
    if not why and row.client.deployment.application.key != issuing.OWN_KEY:
        why = "token for another application"
    if not why and row.grant is None:
        why = "token of no person"
    if not why and row.grant is not None and not row.grant.holds:
        why = "token of a log-in that ended"
    if why:
        raise issuing.of_client(_refused(why), row.client)
    assert row.grant is not None
    rights = frozenset(right for right in ProgramRight if right.value in row.scopes)
    return DelegatedCaller(row.grant.person, ProgramGrant(rights))


def _refused(what: str) -> RequestRefused:
    return RequestRefused("invalid_token", "", 401, what)
