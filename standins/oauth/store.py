"""What an application keeps: clients, secrets, codes, tokens, consents and the things of its trade.

One JSON file for each environment, replaced as a whole after each change.
"""

from __future__ import annotations

import hashlib
import json
import os
import secrets
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from .. import clock
from .about import About

CODE_LIFE, REFRESH_LIFE, SECRET_LIFE = 60, 30 * 86400, 180 * 86400
LIVE_SECRETS = 2


def digest(value: str) -> str:
    """How tokens, codes and secrets are kept."""
    return hashlib.sha256(value.encode()).hexdigest()


class Store:
    """The state of one environment."""

    def __init__(self, file: Path, environment: str, about: About) -> None:
        self.file, self.environment, self.about = file, environment, about
        self.data: dict[str, Any] = {
            "clients": {},
            "codes": {},
            "access": {},
            "refresh": {},
            "things": {},
            "calls": {},
            "switch": False,
            "assertions": {},
        }
        if file.exists():
            self.data.update(json.loads(file.read_text()))

    def save(self) -> None:
        """Write everything, so that a cut leaves the old file or the new one."""
        temporary = self.file.with_suffix(".new")
        with temporary.open("w") as out:
            json.dump(self.data, out)
            out.flush()
            os.fsync(out.fileno())
        temporary.replace(self.file)

    # Clients

    def new_client(self, fields: dict[str, Any]) -> tuple[dict[str, Any], str, str]:
        """Register a client.

        Returns it, its secret (empty if public) and its registration access token.
        """
        short = {"sandbox": "sbx", "staging": "stg", "production": "prd"}[self.environment]
        client_id = f"gs-{self.about.short}-{short}-{secrets.token_hex(3)}"
        token = secrets.token_urlsafe(32)
        client = {
            "client_id": client_id,
            "issued": int(clock.now()),
            "secrets": [],
            "registration_token": digest(token),
            "consents": {},
            **fields,
        }
        self.data["clients"][client_id] = client
        secret = (
            "" if client["token_endpoint_auth_method"] == "none" else self.new_secret(client)[1]
        )
        self.save()
        return client, secret, token

    def new_secret(self, client: dict[str, Any]) -> tuple[str, str]:
        """Add a secret; returns its ID and its value. At most two may live at once (ValueError)."""
        live = [secret for secret in client["secrets"] if secret["ends"] > clock.now()]
        if len(live) >= LIVE_SECRETS:
            raise ValueError("Two secrets are live already. Retire one first.")
        secret_id, value = f"sid-{secrets.token_hex(6)}", secrets.token_urlsafe(30)
        client["secrets"].append(
            {
                "id": secret_id,
                "digest": digest(value),
                "hint": value[-4:],
                "made": clock.now(),
                "ends": int(clock.now()) + SECRET_LIFE,
            }
        )
        self.save()
        return secret_id, value

    def secrets(self) -> Iterator[dict[str, Any]]:
        """Every secret of every client."""
        for client in self.data["clients"].values():
            yield from client["secrets"]

    def client(self, client_id: str | None) -> dict[str, Any] | None:
        """A client by its ID."""
        found: dict[str, Any] | None = self.data["clients"].get(client_id or "")
        return found

    def secret_holds(self, client: dict[str, Any], value: str) -> bool:
        """Whether a value is one of the client's live secrets."""
        wanted = digest(value)
        now = clock.now()
        return any(
            secrets.compare_digest(secret["digest"], wanted)
            and secret["ends"] > now
            and secret["made"] + self.about.spread <= now
            for secret in client["secrets"]
        )

    # Tokens

    def new_code(self, **facts: Any) -> str:
        """An authorization code, good for a minute and for one use."""
        code = secrets.token_urlsafe(24)
        self.data["codes"][digest(code)] = {
            **facts,
            "ends": clock.now() + CODE_LIFE,
            "used": False,
            "family": "",
        }
        self.save()
        return code

    def new_access(self, client_id: str, account: str, scope: str, family: str) -> str:
        """An access token."""
        token = secrets.token_urlsafe(32)
        now = clock.now()
        kept = self.data["access"]
        for old in [key for key, one in kept.items() if one["ends"] < now]:
            del kept[old]
        kept[digest(token)] = {
            "client_id": client_id,
            "account": account,
            "scope": scope,
            "family": family,
            "ends": now + self.about.access_life,
            "made": now,
        }
        return token

    def new_refresh(
        self, client_id: str, account: str, scope: str, family: str, before: str = ""
    ) -> str:
        """A refresh token; ``before`` is the digest of the one it replaces."""
        token = secrets.token_urlsafe(32)
        self.data["refresh"][digest(token)] = {
            "client_id": client_id,
            "account": account,
            "scope": scope,
            "family": family,
            "next": "",
            "before": before,
            "used": False,
            "ends": clock.now() + REFRESH_LIFE,
        }
        return token

    def revoke_family(self, family: str) -> None:
        """End every token that came from one sign-in."""
        for kind in ("access", "refresh"):
            for key in [
                key for key, one in self.data[kind].items() if one["family"] == family and family
            ]:
                del self.data[kind][key]

    def count(self, what: str) -> None:
        """Count calls, for those who watch through the control address."""
        self.data["calls"][what] = self.data["calls"].get(what, 0) + 1
