"""The usual introspection in two queries: an application that signs in as it should, and a token
that is good for it.

Whatever is out of the ordinary is not judged here: the answer is ``None``, and the long way refuses
it, logs what was wrong, or records the last use.
"""

from __future__ import annotations

import json
from datetime import UTC, datetime
from urllib.parse import parse_qsl

from django.conf import settings
from django.db import connection

from neatlatch.core import house_key
from neatlatch.core.addresses import inside
from neatlatch.core.authority import telling
from neatlatch.core.authority.refusing import RequestRefused, once, presented
from neatlatch.desk.estate.records.clients.models import Kind
from neatlatch.desk.estate.records.credentials.models import Credential

from . import issuing

# The states in which a credential lets in, as SQL.
LETS_IN = ", ".join(f"'{state.value}'" for state in Credential.LETS_IN)
_ASKER = f"""SELECT k.digest, k.ends, k.last_used, cl.allow_list, cl.sign_in_method, p.api_base
FROM clients_client cl JOIN applications_place p ON p.id = cl.place_id
JOIN applications_environment e ON e.id = p.environment_id
JOIN credentials_credential k ON k.client_id = cl.id AND k.kind = '{issuing.SECRET_KIND}'
AND k.digest <> '' AND k.state IN ({LETS_IN})
WHERE cl.client_id = %s AND e.key = %s AND cl.house AND cl.kind = '{Kind.RESOURCE_SERVER.value}'
    AND NOT cl.public"""
_TOKEN = """SELECT a.jti, a.scopes, a.audience, a.issued, a.ends, cl.client_id, n.username,
    g.signed_in_at, a.grant_id
FROM house_access a JOIN clients_client cl ON cl.id = a.client_id
JOIN applications_environment e ON e.id = a.environment_id
LEFT JOIN house_grant g ON g.id = a.grant_id LEFT JOIN people_person n ON n.id = g.person_id
AND n.is_active
WHERE a.digest = %s AND e.key = %s AND a.revoked IS NULL"""


def moment(text: datetime | str | None) -> datetime | None:
    """A moment as the database gives it, with or without Django's converter."""
    if not text:
        return None
    found = text if isinstance(text, datetime) else datetime.fromisoformat(text)
    return found.replace(tzinfo=UTC)


def introspect(
    environment: str, authorization: str, body: bytes, address: str, now: datetime
) -> str | None:
    """The answer as JSON, if nothing about the question is out of the ordinary."""
    try:
        form = once(parse_qsl(body.decode("utf-8"), keep_blank_values=True, max_num_fields=20))
        shown = presented(authorization, form)
    except (RequestRefused, ValueError):
        return None
    token, digest = form.get("token", ""), house_key.digest(shown.secret)
    if token.count(".") != 2 or not shown.secret:
        return None
    with connection.cursor() as cursor:
        asker = next(
            (
                row
                for row in cursor.execute(_ASKER, [shown.client_id, environment]).fetchall()
                if house_key.same(row[0], digest)
            ),
            None,
        )
        if asker is None:
            return None
        _, ends, used, allowed, method, audience = asker
        over, last, networks = moment(ends), moment(used), json.loads(allowed)
        if (
            (over is not None and over <= now)
            or last is None
            or now - last > issuing.NOTED_EVERY
            or method != shown.method
            or not audience
        ):
            return None
        if networks and not inside(address, networks):
            return None
        found = cursor.execute(_TOKEN, [house_key.digest(token), environment]).fetchone()
    if found is None:
        return None
    jti, scopes, meant, issued, token_ends, client_id, username, signed_in, grant = found
    begun, until = moment(issued), moment(token_ends)
    if (
        begun is None
        or until is None
        or until <= now
        or meant != audience
        or (grant is not None and username is None)
    ):
        return None
    at = moment(signed_in)
    plain = telling.AccessToken(
        f"{settings.PUBLIC_URL}/house/{environment}",
        client_id,
        username or client_id,
        meant,
        frozenset(json.loads(scopes)),
        int(begun.timestamp()),
        int(until.timestamp()),
        jti,
        int(at.timestamp()) if at else None,
        username or "",
    )
    return json.dumps(telling.introspection(plain))
