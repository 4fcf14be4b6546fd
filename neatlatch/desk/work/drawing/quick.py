"""The usual draw in one query: a key that is good, a connection that its workload uses, a token
that needs no renewal.

Whatever is out of the ordinary is not judged here: the answer is ``None``, and the long way in
:mod:`services` says what is wrong, renews, or records the last use. So a mistake here can refuse
nobody, and what it admits is held to the same conditions. Most of a draw's cost was in building
queries, not in running them.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime

from django.db import connection

from neatlatch.core import house_key, lifetimes
from neatlatch.core.addresses import inside
from neatlatch.core.destinations import origin
from neatlatch.core.schemes import OAUTH2, SIGNING_SECRET
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.authority.house.quick import LETS_IN, moment
from neatlatch.desk.ground.common import safe

_FROM_CLIENT = f"""
JOIN applications_place p ON p.id = cl.place_id
JOIN applications_application a ON a.id = p.application_id AND a.key = '{issuing.OWN_KEY}'
JOIN applications_environment e ON e.id = p.environment_id
JOIN users_user u ON u.id = cl.workload_id AND u.environment_id = e.id
JOIN users_use us ON us.workload_id = u.id
JOIN connections_connection c ON c.id = us.connection_id AND c.ref = e.key || '/' || %s
    AND NOT c.individual
JOIN applications_place cp ON cp.id = c.place_id AND cp.environment_id = e.id
JOIN connections_tokenset t ON t.connection_id = c.id AND t.person_id IS NULL
JOIN applications_application ca ON ca.id = cp.application_id
"""
_WANTED = f"""cl.allow_list, u.id, c.id, c.ref, c.scheme, c."values",
t.access, t.obtained, t.ends, t.refused, t.sent_to,
(SELECT h.credential_id FROM connections_heldsecret h
JOIN credentials_credential hc ON hc.id = h.credential_id
 WHERE h.connection_id = c.id AND h.key <> '{SIGNING_SECRET}' AND hc.fingerprint <> ''
 ORDER BY h.id LIMIT 1),
t.generation, c.pace, c.time_limit, cl.id, cl.pace, json_extract(ca.profile, '$.relays')"""
_BY_KEY = f"""SELECT {_WANTED}, k.digest, k.ends, k.last_used, cl.scopes, e.key
FROM credentials_credential k JOIN clients_client cl ON cl.id = k.client_id
AND cl.house {_FROM_CLIENT}
WHERE k.secret_id = %s AND k.kind = '{issuing.KEY_KIND}' AND k.digest <> ''
    AND k.state IN ({LETS_IN})"""
_BY_TOKEN = f"""SELECT {_WANTED}, k.digest, k.ends, k.issued, k.scopes, e.key
FROM house_access k JOIN clients_client cl ON cl.id = k.client_id AND cl.house {_FROM_CLIENT}
WHERE k.digest = %s AND k.revoked IS NULL"""


@dataclass(frozen=True)
class ReadyDraw:
    """A draw that was ready: whose, of what, and the header's value."""

    workload: str
    connection: str
    ref: str
    credential: str
    base: str
    header: str
    ends: datetime | None
    # What the relay asks beside: the token's generation; calls a second and seconds for a call of
    # the connection; the caller's client, and calls a second of its own (none: any); header fields
    # that the application's profile lets through.
    generation: int
    pace: float
    time_limit: float
    client: str
    own_pace: float | None
    relays: tuple[str, ...]

    def __repr__(self) -> str:
        return f"Quick({self.connection}, •••)"


def draw(
    authorization: str, name: str, scope: str, address: str, now: datetime
) -> ReadyDraw | None:
    """The draw, or a request to be relayed (``scope`` says which), if nothing about it is out of
    the ordinary. ``address`` is the caller's.
    """
    kind, _, text = authorization.partition(" ")
    if kind.lower() != "bearer":
        return None
    by_key = text.startswith(f"{house_key.API_KEY}_")
    if by_key:
        try:
            read = house_key.read(text)
        except house_key.BadKey:
            return None
        query, identity, digest, environment = _BY_KEY, read.id, read.digest, read.environment
    else:
        digest = house_key.digest(text)
        query, identity, environment = _BY_TOKEN, digest, ""
    with connection.cursor() as cursor:
        row = cursor.execute(query, [name, identity]).fetchone()
    if row is None:
        return None
    (
        allowed,
        workload,
        target,
        reference,
        scheme,
        values,
        access,
        obtained,
        ends,
        refused,
        sent_to,
        credential,
        generation,
        pace,
        time_limit,
        client,
        own_pace,
        relays,
        kept,
        key_ends,
        used,
        scopes,
        named,
    ) = row
    until, over = moment(ends), moment(key_ends)
    due = lifetimes.renew_at(moment(obtained) or now, until)
    base = json.loads(values).get("api_base", "")
    ordinary = (
        house_key.same(kept, digest)
        and (
            not by_key
            or (
                named == environment
                and used is not None
                and now - (moment(used) or now) <= issuing.NOTED_EVERY
            )
        )
        and (over is None or over > now)
        and scope in json.loads(scopes)
        and scheme in OAUTH2
        and not refused
        and origin(base) in json.loads(sent_to)
        and not lifetimes.is_over(until, now)
        and (due is None or now < due)
        and (not json.loads(allowed) or inside(address, json.loads(allowed)))
    )
    if not ordinary:
        return None
    identity = _as_uuid(target)
    token = safe.unseal(access, f"token:{identity}:access").reveal()
    return ReadyDraw(
        _as_uuid(workload),
        identity,
        reference,
        _as_uuid(credential) if credential else "",
        base,
        f"Bearer {token}",
        until,
        generation,
        pace,
        time_limit,
        _as_uuid(client),
        own_pace,
        tuple(str(load) for load in json.loads(relays or "[]")),
    )


def _as_uuid(text: str) -> str:
    """The database keeps them without hyphens."""
    return f"{text[:8]}-{text[8:12]}-{text[12:16]}-{text[16:20]}-{text[20:]}"
