"""Calls that an office sends when one of its things changes, signed by the Standard Webhooks
scheme: where they go, and the secrets that they are signed with.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
import hashlib
import hmac
import ipaddress
import json
import secrets
from html import escape
from typing import Any
from urllib.parse import urlsplit

import httpx

from .. import clock

# Who changes a secret has both sign for a while: the newest last.
_KEPT = 2


def is_near(address: str) -> bool:
    """Whether an address is one of this machine: a stand-in calls nobody else."""
    parts = urlsplit(address)
    try:
        return parts.scheme == "http" and ipaddress.ip_address(parts.hostname or "").is_loopback
    except ValueError:
        return False


def section(env: str, told: dict[str, Any]) -> str:
    """The part of the administration screen that is about calls."""
    goes = escape(str(told.get("address") or "nowhere yet"))
    signs = len(told.get("secrets", ()))
    return (
        f"<h2>Calls when something changes</h2><p>They go to <code>{goes}</code>, signed with "
        f"{signs} secret{'' if signs == 1 else 's'}. The last one was answered "
        f"{escape(str(told.get('answered', 'not yet')))}.</p>"
        f"<form method=post action='/{env}/calls'><p>Address <input name=address size=50 "
        f"value='{escape(str(told.get('address', '')))}'></p><button name=do value=save>Save "
        f"address</button> <button name=do value=secret>New signing secret</button> <button "
        f"name=do value=first>Sign with the newest only</button></form>"
    )


def change(told: dict[str, Any], form: dict[str, str]) -> str:
    """Change what is told of the calls; returns a new secret, if one was made."""
    if form.get("do") == "secret":
        made = "whsec_" + base64.b64encode(secrets.token_bytes(24)).decode()
        told["secrets"] = [*told.get("secrets", []), made][-_KEPT:]
        return made
    if form.get("do") == "first":
        told["secrets"] = told.get("secrets", [])[-1:]
    elif is_near(form.get("address", "")):
        told["address"] = form["address"]
    return ""


def signed(told: dict[str, Any], id: str, body: bytes) -> dict[str, str]:
    """The header fields of a call."""
    stamp = str(int(clock.now()))
    found = []
    for secret in told["secrets"]:
        key = base64.b64decode(secret.removeprefix("whsec_"))
        mac = hmac.new(key, f"{id}.{stamp}.".encode() + body, hashlib.sha256).digest()
        found.append("v1," + base64.b64encode(mac).decode())
    return {
        "content-type": "application/json",
        "webhook-id": id,
        "webhook-timestamp": stamp,
        "webhook-signature": " ".join(found),
    }


class Caller:
    """Sends them, without making anyone wait."""

    def __init__(self) -> None:
        self._under_way: set[asyncio.Task[None]] = set()

    def tell(self, told: dict[str, Any], what: str, thing: dict[str, Any]) -> None:
        """Send one, if there is an address and a secret."""
        if told.get("address") and told.get("secrets"):
            task = asyncio.get_running_loop().create_task(self._send(told, what, thing))
            self._under_way.add(task)
            task.add_done_callback(self._under_way.discard)

    async def _send(self, told: dict[str, Any], what: str, thing: dict[str, Any]) -> None:
        id = f"call_{secrets.token_hex(8)}"
        body = json.dumps({"type": what, "data": thing}).encode()
        told["answered"] = "not at all"
        with contextlib.suppress(httpx.HTTPError):
            async with httpx.AsyncClient(timeout=10) as web:
                answer = await web.post(
                    told["address"], content=body, headers=signed(told, id, body)
                )
                told["answered"] = f"with {answer.status_code}"
