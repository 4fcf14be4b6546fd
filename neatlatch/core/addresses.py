"""Web addresses: taking a URI apart and comparing two of them (RFC 3986).

A URI is taken apart by the expression of RFC 3986 Appendix B, which never fails: whatever a person
pasted can be shown and compared piece by piece. Whether a URI is *sound* is asked separately.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable
from dataclasses import dataclass, replace

# RFC 3986 Appendix B, with the authority kept apart from its marker "//".
_PIECES = re.compile(
    r"^(?:([^:/?#]+):)?(?://([^/?#]*))?([^?#]*)(?:\?([^#]*))?(?:#(.*))?$", re.DOTALL
)
_SCHEME = re.compile(r"^[A-Za-z][A-Za-z0-9+.-]*$")
_ESCAPE = re.compile(r"%([0-9A-Fa-f]{2})")
_UNRESERVED = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")
_DEFAULT_PORTS = {"http": "80", "https": "443"}
# Characters of an address that something is sent to (our own bound; common practice, no source).
LONGEST = 2_000
_USER_NAME = (
    "It holds a user name before @; credentials do not belong in an address (RFC 9110 §4.2.4)."
)
_PLACEHOLDER = re.compile(r"\{[^{}]*\}|<[A-Za-z][^<>]*>")
# RFC 3986 §2: a URI is made of these and nothing else.
_URI_CHARACTERS = re.compile(r"^[A-Za-z0-9\-._~:/?#\[\]@!$&'()*+,;=%]*$")


@dataclass(frozen=True)
class Address:
    """A URI in its pieces.

    ``None`` is an absent piece; an empty string is one that is present and empty.
    """

    scheme: str | None
    userinfo: str | None
    host: str | None
    port: str | None
    path: str
    query: str | None
    fragment: str | None

    @property
    def text(self) -> str:
        """The pieces put together again (RFC 3986 §5.3)."""
        parts = []
        if self.scheme is not None:
            parts.append(f"{self.scheme}:")
        if self.host is not None:
            user = "" if self.userinfo is None else f"{self.userinfo}@"
            port = "" if self.port is None else f":{self.port}"
            parts.append(f"//{user}{self.host}{port}")
        parts.append(self.path)
        if self.query is not None:
            parts.append(f"?{self.query}")
        if self.fragment is not None:
            parts.append(f"#{self.fragment}")
        return "".join(parts)

    @property
    def effective_port(self) -> str | None:
        """The port that would be used: the one written, or the scheme's own."""
        return self.port or _DEFAULT_PORTS.get((self.scheme or "").lower())


def take_apart(uri: str) -> Address:
    """Split a URI reference into its pieces (RFC 3986 Appendix B and §3.2). Never fails."""
    found = _PIECES.match(uri)
    assert found is not None  # the expression matches every string
    scheme, authority, path, query, fragment = found.groups()
    userinfo = host = port = None
    if authority is not None:
        rest = authority
        if "@" in rest:
            userinfo, _, rest = rest.rpartition("@")
        bracket = rest.rfind("]")
        colon = rest.rfind(":")
        if colon > bracket:
            host, port = rest[:colon], rest[colon + 1 :]
        else:
            host = rest
    return Address(scheme, userinfo, host, port, path, query, fragment)


def _normal_escapes(text: str) -> str:
    """Upper-case hex digits and undo escapes of unreserved characters (RFC 3986 §6.2.2.1,
    §6.2.2.2).
    """

    def one(match: re.Match[str]) -> str:
        character = chr(int(match.group(1), 16))
        return character if character in _UNRESERVED else match.group(0).upper()

    return _ESCAPE.sub(one, text)


def remove_dot_segments(path: str) -> str:
    """RFC 3986 §5.2.4, step by step."""
    rest, out = path, ""
    while rest:
        if rest.startswith("../"):
            rest = rest[3:]
        elif rest.startswith("./") or rest.startswith("/./"):
            rest = rest[2:]
        elif rest == "/.":
            rest = "/"
        elif rest.startswith("/../") or rest == "/..":
            rest = "/" + rest[4:]
            out = out[: out.rfind("/")] if "/" in out else ""
        elif rest in (".", ".."):
            rest = ""
        else:
            cut = rest.find("/", 1)
            cut = len(rest) if cut == -1 else cut
            out, rest = out + rest[:cut], rest[cut:]
    return out


def normalise(uri: str) -> str:
    """The URI after syntax- and scheme-based normalisation (RFC 3986 §6.2.2, §6.2.3)."""
    address = take_apart(uri)
    scheme = address.scheme.lower() if address.scheme else address.scheme
    host = address.host
    if host is not None:
        host = _normal_escapes(host).lower()
    path = _normal_escapes(address.path)
    if scheme is not None:
        path = remove_dot_segments(path)
    port = address.port
    if port is not None and (port == "" or port == _DEFAULT_PORTS.get(scheme or "")):
        port = None
    if path == "" and host is not None and scheme in _DEFAULT_PORTS:
        path = "/"
    return replace(
        address,
        scheme=scheme,
        userinfo=None if address.userinfo is None else _normal_escapes(address.userinfo),
        host=host,
        port=port,
        path=path,
        query=None if address.query is None else _normal_escapes(address.query),
        fragment=None if address.fragment is None else _normal_escapes(address.fragment),
    ).text


def equivalent(text: str, other: str) -> bool:
    """Whether two URIs are the same after normalisation (RFC 3986 §6.2.2, §6.2.3)."""
    return text == other or normalise(text) == normalise(other)


def is_absolute(uri: str) -> bool:
    """Whether the text starts with a valid scheme (RFC 3986 §3.1)."""
    scheme = take_apart(uri).scheme
    return scheme is not None and _SCHEME.match(scheme) is not None


def is_loopback_host(host: str | None) -> bool:
    """Whether a host is this machine by its own name: a loopback address literal or ``localhost``
    (RFC 6761 §6.3).
    """
    if host is None:
        return False
    bare = host.strip("[]").lower()
    if bare == "localhost" or bare.endswith(".localhost"):
        return True
    try:
        return ipaddress.ip_address(bare).is_loopback
    except ValueError:
        return False


def is_protected(uri: str) -> bool:
    """Whether a call there cannot be overheard: https, or a loopback host (RFC 6749 §3.1.2.1, RFC
    8252 §8.3).
    """
    address = take_apart(uri)
    return (address.scheme or "").lower() == "https" or is_loopback_host(address.host)


def placeholders(uri: str) -> tuple[str, ...]:
    """Slots nobody has filled in, such as ``{tenant}`` or ``<your-site>`` (common practice, no
    source).
    """
    return tuple(_PLACEHOLDER.findall(uri))


def is_port(text: str) -> bool:
    """Whether a text is the number of a port (RFC 3986 §3.2.3; 16 bits, RFC 9293 §3.1)."""
    return text.isascii() and text.isdigit() and len(text) <= 5 and 0 < int(text) < 65536


def is_host(text: str) -> bool:
    """Whether a text can be a host: brackets stand round an IPv6 address and nowhere else (RFC 3986
    §3.2.2).
    """
    if "[" not in text and "]" not in text:
        return bool(text)
    try:
        ipaddress.IPv6Address(text[1:-1])
    except ValueError:
        return False
    return text.startswith("[") and text.endswith("]") and "%" not in text


def unsound_web_address(uri: str) -> str | None:
    """Why a text cannot be used as a web address to call, in one sentence; ``None`` if it can (RFC
    3986 §2, RFC 9110 §4.2).
    """
    if not uri:
        return "No address was given."
    if uri != uri.strip():
        return "There is a space or line break at an end of the address."
    if slots := placeholders(uri):
        return f"{slots[0]} still has to be filled in."
    address = take_apart(uri)
    if address.scheme is None or not _SCHEME.match(address.scheme) or address.host is None:
        return "It needs the scheme, for example https://."
    if address.scheme.lower() not in _DEFAULT_PORTS:
        return f"“{address.scheme}” is not a scheme for web addresses; use https."
    if not address.host:
        return "It has no host."
    if not is_host(address.host):
        return f"“{address.host}” is no host: brackets stand round an IPv6 address only."
    if not _URI_CHARACTERS.match(uri):
        return "It holds characters that a web address must escape."
    if address.port is not None and not is_port(address.port):
        return f"“{address.port}” is not a port number."
    if address.userinfo is not None:
        return _USER_NAME
    return None


def uncallable(uri: str) -> str | None:
    """Why nothing should ever be sent to an address, whatever else may still be unfinished in it,
    in one sentence; ``None``: nothing speaks against it.

    Longer than :data:`LONGEST` characters, another scheme than http and https, or user info (RFC
    9110 §4.2.4).
    """
    if len(uri) > LONGEST:
        return f"It has {len(uri):,} characters; an address has {LONGEST:,} at most."
    address = take_apart(uri)
    if (
        address.scheme is not None
        and address.host is not None
        and address.scheme.lower() not in _DEFAULT_PORTS
    ):
        return f"“{address.scheme}” is not a scheme for web addresses; use https."
    if address.userinfo is not None:
        return _USER_NAME
    return None


def host_port_mistake(text: str) -> str | None:
    """Why a text is not a host and a port to reach, in one sentence; ``None`` if it is (RFC 3986
    §3.2.2, §3.2.3).
    """
    if text != text.strip() or not text:
        return "A host and a port are required, like positions.example:9443."
    if slots := placeholders(text):
        return f"{slots[0]} still has to be filled in."
    address = take_apart(f"//{text}")
    if (
        "/" in text
        or not address.host
        or address.userinfo is not None
        or not _URI_CHARACTERS.match(text)
    ):
        return (
            "A host and a port are required, like positions.example:9443, and nothing before or "
            "after them."
        )
    if address.port is None or not is_port(address.port):
        return "The port is missing, or is not a number from 1 to 65535."
    return None


def is_network(text: str) -> bool:
    """Whether a text is an address or a network as allow-lists have them (RFC 4632 §3.1, RFC 4291
    §2.3).
    """
    try:
        ipaddress.ip_network(text, strict=False)
    except ValueError:
        return False
    return True


def inside(address: str, networks: Iterable[str]) -> bool:
    """Whether an address is in one of the networks of an allow-list.

    A text that is no address is in none; one that is no network holds none.
    """
    try:
        given = ipaddress.ip_address(address)
    except ValueError:
        return False
    return any(
        given in ipaddress.ip_network(network, strict=False)
        for network in networks
        if is_network(network)
    )


def joined_path(base: str, path: str) -> str:
    """Return a path behind a base address, with one slash between them."""
    return base.rstrip("/") + (path if path.startswith("/") or not path else f"/{path}")


def unsound_return_address(address: str, longest: int) -> str:
    """Why nobody should be sent on to an address with something of theirs, in one sentence; empty:
    nothing speaks against it. Source: RFC 6749 §3.1.2, RFC 8252 §7.3, RFC 9700 §2.6.
    """
    if len(address) > longest or "#" in address:
        return f"It has {longest} characters at most, and no fragment."
    if wrong := unsound_web_address(address):
        return wrong
    parts = take_apart(address)
    if (parts.scheme or "").lower() == "https" or is_loopback_host(parts.host or ""):
        return ""
    return "It must be https, unless it is on a loopback address."
