"""Somebody at the stand-ins' screens: picks an account, agrees, and works in the harbour office, by
the very forms a person uses.
"""

from __future__ import annotations

import re
import ssl
from html import unescape

import httpx

# For what is asked in plain text: nobody is trusted. httpx would read every certificate authority
# of the machine for each client, 55 ms of work.
NOBODY = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)


class Visitor:
    """A person with a browser, at one environment of an OAuth application."""

    def __init__(self, screens: str) -> None:
        self.screens = screens
        self.web = httpx.Client(timeout=10, follow_redirects=True, verify=NOBODY)

    def sign_in(self, address: str, account: str) -> str:
        """Go where Neat Latch sends people, pick an account, agree.

        Returns the address they are sent back to.
        """
        page = self.web.get(address).text
        chosen = self.web.post(
            f"{self.screens}/choose",
            data={"ticket": _field(page, "ticket"), "account": account},
            follow_redirects=False,
        )
        if chosen.is_redirect:
            return str(chosen.headers["location"])
        answer = self.web.post(
            f"{self.screens}/answer",
            data={"ticket": _field(chosen.text, "ticket"), "say": "yes"},
            follow_redirects=False,
        )
        return str(answer.headers["location"])

    def enter_office(self) -> None:
        """Go into the harbour office."""
        self.web.post(f"{self.screens}/office/enter")

    def consent(self, client_id: str, scope: str) -> None:
        """Agree to a scope for everyone, as the harbour's administrator."""
        self.web.post(f"{self.screens}/office/{client_id}/consent", data={"value": scope})

    def switch_on(self) -> None:
        """Turn the firm-wide switch on, unless it is."""
        page = self.web.get(f"{self.screens}/office").text
        if "Turn it on" in page:
            self.web.post(f"{self.screens}/office/switch")

    def add_client(
        self,
        name: str,
        uris: list[str],
        scopes: list[str],
        grants: list[str],
        method: str = "client_secret_basic",
        certificate: str = "",
    ) -> tuple[str, str]:
        """Enter a client manually. Returns its ID and the secret that is shown once."""
        fields = {
            "name": name,
            "uris": "\n".join(uris),
            "scope": scopes,
            "grant": grants,
            "method": method,
            "certificate": certificate,
        }
        page = self.web.post(f"{self.screens}/office/clients", data=fields).text
        found = {
            key: unescape(value)
            for key, value in re.findall(r"<th>([\w ]+)<td><code>([^<]*)</code>", page)
        }
        return found["Client ID"], found["Secret value"]

    def add_secret(self, client_id: str) -> str:
        """Have a second secret made. Returns it, as it is shown once."""
        page = self.web.post(f"{self.screens}/office/{client_id}/secret").text
        return _shown(page)["Secret value"]


def _field(page: str, name: str) -> str:
    found = re.search(rf"name={name} value='([^']*)'", page)
    if found is None:
        raise RuntimeError(f"The page has no field {name}: {re.sub('<[^>]+>', ' ', page)[:200]}")
    return unescape(found.group(1))


class OfficeVisitor:
    """A person with a browser, at the administration of an application that hands out keys."""

    def __init__(self, screens: str, environment: str) -> None:
        self.screens = f"{screens}/{environment}"
        self.web = httpx.Client(timeout=10, follow_redirects=True, verify=NOBODY)

    def make(self, name: str, account: str, role: str, days: int = 0) -> dict[str, str]:
        """Have one made.

        Returns what is shown once, by its label; a certificate with its key is under ``issued``.
        """
        page = self.web.post(
            f"{self.screens}/make",
            data={"name": name, "account": account, "role": role, "days": str(days or "")},
        ).text
        if slip := re.search(r"<b id=slip>(\d+)</b>", page):
            page = self.web.post(
                f"{self.screens}/show", data={"key": _field(page, "key"), "code": slip.group(1)}
            ).text
        return _shown(page)

    def make_register_account(self, name: str) -> dict[str, str]:
        """An account of the register of message formats."""
        return _shown(self.web.post(f"{self.screens}/register/make", data={"name": name}).text)

    def make_signing_secret(self) -> str:
        """Have a secret made that signs the calls that the application sends."""
        page = self.web.post(f"{self.screens}/calls", data={"do": "secret"}).text
        return _shown(page)["Signing secret"]

    def set_role(self, key: str, role: str) -> None:
        """Change a role or permission."""
        self.web.post(f"{self.screens}/{key}/role", data={"role": role})


def _shown(page: str) -> dict[str, str]:
    found = {
        key: unescape(value)
        for key, value in re.findall(r"<th>([\w ]+)<td><code>([^<]*)</code>", page)
    }
    if issued := re.search(r"<textarea id=issued[^>]*>([^<]*)</textarea>", page):
        found["issued"] = issued.group(1)
    if thumbprint := re.search(r"Thumbprint <code>([0-9a-f]+)</code>", page):
        found["Thumbprint"] = thumbprint.group(1)
    if not found:
        raise RuntimeError(
            f"The page shows nothing to carry away: {re.sub('<[^>]+>', ' ', page)[-200:]}"
        )
    return found
