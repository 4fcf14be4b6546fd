"""Where Neat Latch is, and by what a job says who it is: arguments first, then the environment."""

from __future__ import annotations

import os
import ssl
from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from ipaddress import ip_address
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlsplit

from .errors import NoKey

DEFAULT_URL = "http://127.0.0.1:8600"


def _is_here(host: str | None) -> bool:
    """Whether a host is this machine (RFC 6761 §6.3)."""
    try:
        return host == "localhost" or ip_address(host or "").is_loopback
    except ValueError:
        return False


@dataclass(frozen=True)
class Settings:
    """How to reach Neat Latch. Each is read from the environment where it is not given:
    ``NLATCH_URL``, ``NLATCH_KEY``, and so on.
    """

    # The desk's address, or that of its TLS listener.
    url: str = DEFAULT_URL
    # A workload's own key or access token, or a program's token.
    key: str = field(default="", repr=False)
    # A file that holds it.
    key_file: str = ""
    # A file with a certificate, its chain and its key in PEM, in place of a key.
    certificate: str = ""
    # A file with certificate authorities of one's own, in PEM.
    ca: str = ""
    # Anything: a key may go over plain HTTP to another machine, as inside one's own network.
    plain_http: str = ""
    # For a program's token that draws for several: the workload, as environment/name.
    workload: str = ""

    @classmethod
    def of(cls, environment: Mapping[str, str] | None = None, **given: Any) -> Settings:
        """Return the settings that were given, and the environment's for the others."""
        environ = os.environ if environment is None else environment
        found = {
            entry.name: environ.get(f"NLATCH_{entry.name.upper()}", "") for entry in fields(cls)
        }
        if given.get("key") or given.get("key_file") or given.get("certificate"):
            found |= {"key": "", "key_file": "", "certificate": ""}
        found |= {name: str(value) for name, value in given.items() if value}
        return cls(**{name: value for name, value in found.items() if value})

    def headers(self) -> dict[str, str]:
        """Return the header fields that say who asks. Raises :class:`NoKey`."""
        key = self.key or self._from_file()
        if not key and not self.certificate:
            raise NoKey("No key is set.")
        if not key.isascii() or any(character.isspace() for character in key):
            raise NoKey("The key holds a space, a line break or a letter that no key has.")
        named = {"Neatlatch-Workload": quote(self.workload, safe="/")} if self.workload else {}
        return named | ({"Authorization": f"Bearer {key}"} if key else {})

    def _from_file(self) -> str:
        if not self.key_file:
            return ""
        try:
            return Path(self.key_file).read_text(encoding="utf-8").strip()
        except OSError as error:
            raise NoKey(f"{self.key_file}: {error.strerror}.") from error
        except UnicodeDecodeError as error:
            raise NoKey(f"{self.key_file} is no text, so it holds no key.") from error

    def tls(self) -> ssl.SSLContext:
        """Return how the desk's certificate is checked, and one's own shown. Raises
        :class:`NoKey` where a file cannot be read, and where a key would go to another machine
        without TLS (RFC 6750 §5.3).
        """
        address = urlsplit(self.url)
        if address.scheme != "https" and not self.plain_http and not _is_here(address.hostname):
            raise NoKey(
                f"{self.url} is not https, so the key could be read on the way.",
                "Use https; or set NLATCH_PLAIN_HTTP=1 where the network is your own.",
            )
        file = self.ca
        try:
            context = ssl.create_default_context(cafile=self.ca or None)
            file = self.certificate
            if self.certificate:
                context.load_cert_chain(self.certificate)
        except (OSError, ssl.SSLError) as error:
            # SSLError is an OSError, too; its text is of no use to anybody.
            why = "" if isinstance(error, ssl.SSLError) else error.strerror
            kind = "a certificate with its key" if file == self.certificate else "certificates"
            raise NoKey(f"{file}: {why or f'it does not hold {kind} in PEM'}.") from error
        return context
