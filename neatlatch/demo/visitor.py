"""Somebody at the stand-ins' screens: picks an account, agrees, and works in the harbour office, by the very forms a person uses."""

from __future__ import annotations

import re
from html import unescape

import httpx


class Visitor:
    """A person with a browser, at one environment of Cargo manifests."""

    def __init__(self, screens: str) -> None:
        self.screens = screens
        self.web = httpx.Client(timeout=10, follow_redirects=True)

    def sign_in(self, address: str, account: str) -> str:
        """Go where Neat Latch sends people, pick an account, agree. Answers the address they are sent back to."""
        page = self.web.get(address).text
        chosen = self.web.post(
            f"{self.screens}/choose", data={"ticket": _field(page, "ticket"), "account": account}, follow_redirects=False
        )
        if chosen.is_redirect:
            return str(chosen.headers["location"])
        answer = self.web.post(
            f"{self.screens}/answer", data={"ticket": _field(chosen.text, "ticket"), "say": "yes"}, follow_redirects=False
        )
        return str(answer.headers["location"])

    def enter_office(self) -> None:
        """Go into the harbour office."""
        self.web.post(f"{self.screens}/office/enter")

    def consent(self, client_id: str, scope: str) -> None:
        """Agree to a scope for everyone, as the harbour's administrator."""
        self.web.post(f"{self.screens}/office/{client_id}/consent", data={"value": scope})

    def add_client(self, name: str, uris: list[str], scopes: list[str], grants: list[str]) -> tuple[str, str]:
        """Enter a client by hand. Answers its ID and the secret that is shown once."""
        fields = {"name": name, "uris": "\n".join(uris), "scope": scopes, "grant": grants, "method": "client_secret_basic"}
        page = self.web.post(f"{self.screens}/office/clients", data=fields).text
        found = {key: unescape(value) for key, value in re.findall(r"<th>([\w ]+)<td><code>([^<]*)</code>", page)}
        return found["Client ID"], found["Secret value"]


def _field(page: str, name: str) -> str:
    found = re.search(rf"name={name} value='([^']*)'", page)
    if found is None:
        raise RuntimeError(f"The page has no field {name}: {re.sub('<[^>]+>', ' ', page)[:200]}")
    return unescape(found.group(1))
