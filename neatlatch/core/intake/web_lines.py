"""Single lines from the web: a ``curl`` line, an authorization URL, an HTTP header, a token."""

from __future__ import annotations

import re
import shlex
from urllib.parse import parse_qsl

from .. import basic
from ..addresses import take_apart
from ..jose import jws, jwt
from ..lifetimes import in_words
from .clean import clean
from .found import IntakeRefused, Item, Recognised

_HEADER = re.compile(r"^([A-Za-z][A-Za-z0-9-]{1,60}):[ \t]*(\S.*)$")
_KNOWN_HEADERS = ("authorization", "cookie", "proxy-authorization")
_JWT = re.compile(r"^(?:[Bb]earer\s+)?([\w-]{8,}\.[\w-]{2,}\.[\w-]*)$")
# Options of curl that take a value and say nothing of credentials.
_SKIP = frozenset(
    {
        "-X",
        "--request",
        "-o",
        "--output",
        "-A",
        "--user-agent",
        "-m",
        "--max-time",
        "--cacert",
        "--connect-timeout",
        "-e",
        "--referer",
        "--retry",
    }
)


def looks_like_curl(text: str) -> bool:
    """Whether it begins with the word ``curl``."""
    return re.match(r"^\s*\$?\s*curl(?:\.exe)?\s", text) is not None


def looks_like_header(text: str) -> bool:
    """Whether every line is a header field, and one of them could carry a credential."""
    lines = [line.strip() for line in text.strip().splitlines() if line.strip()]
    found = [_HEADER.match(line) for line in lines]
    if not lines or not all(found):
        return False
    names = [match.group(1).lower() for match in found if match]
    return any(
        name in _KNOWN_HEADERS or name.startswith("x-") or "key" in name or "token" in name
        for name in names
    )


def looks_like_authorization_url(text: str) -> bool:
    """Whether it is an address with the parameters of an authorization request."""
    line = text.strip()
    return (
        "\n" not in line
        and re.match(r"https?://", line) is not None
        and "?" in line
        and "client_id=" in line
    )


def looks_like_jwt(text: str) -> bool:
    """Whether it is three parts of base64url, the first of which is a JSON object."""
    match = _JWT.match(text.strip())
    if match is None:
        return False
    try:
        jws.take_apart(match.group(1))
    except jws.BadToken:
        return False
    return True


def read_curl(text: str) -> Recognised:
    """Address, headers, user and form fields of a ``curl`` line.

    Raises :class:`IntakeRefused` where its quotes do not close.
    """
    joined = re.sub(r"[\\^`]\r?\n", " ", text.strip().lstrip("$").strip())
    try:
        words = shlex.split(joined)
    except ValueError as error:
        raise IntakeRefused("The curl line was cut: a quote in it does not close.") from error
    items: list[Item] = []
    left: list[str] = []
    place = 1
    while place < len(words):
        word, following = words[place], words[place + 1] if place + 1 < len(words) else ""
        name, _, attached = word.partition("=")
        if attached and name.startswith("--"):
            word, following, place = name, attached, place - 1
        if word in ("-H", "--header"):
            items += _header_items(following, left)
            place += 2
        elif word in ("-u", "--user"):
            user, _, password = following.partition(":")
            items += [Item("username", user), *([Item("password", password)] if password else [])]
            place += 2
        elif word in ("-d", "--data", "--data-raw", "--data-urlencode", "--data-binary"):
            items += _form_items(following, left)
            place += 2
        elif word in ("-E", "--cert", "--key"):
            left.append(f"{word} {following}: a file on that machine; drop the file itself")
            place += 2
        elif word in ("-b", "--cookie"):
            items += [
                Item(f"cookie.{part.partition('=')[0].strip()}", part.partition("=")[2])
                for part in following.split(";")
                if "=" in part
            ]
            place += 2
        elif word in _SKIP:
            left.append(f"{word} {following}")
            place += 2
        elif word in ("-k", "--insecure"):
            left.append(
                "-k: it switches the check of their certificate off; that is not taken over"
            )
            place += 1
        elif word.startswith("-"):
            left.append(word)
            place += 1
        else:
            items += _address_items(word)
            place += 1
    return Recognised(
        "curl",
        f"A curl line with {len(items)} values",
        tuple(_without_variables(items, left)),
        tuple(left),
    )


def _without_variables(items: list[Item], left: list[str]) -> list[Item]:
    kept = []
    for item in items:
        if re.search(r"\$\{?\w+\}?", item.value):
            left.append(f"{item.name}: a variable is there, not the value")
        else:
            kept.append(item)
    return kept


def _address_items(address: str) -> list[Item]:
    parts = take_apart(address)
    found = [
        Item(
            "url",
            f"{parts.scheme}://{parts.host}{f':{parts.port}' if parts.port else ''}{parts.path}"
            if parts.scheme
            else address,
        )
    ]
    return found + [
        Item(f"query.{name}", value)
        for name, value in parse_qsl(parts.query or "", keep_blank_values=True)
    ]


def _form_items(body: str, left: list[str]) -> list[Item]:
    if body.lstrip().startswith(("{", "[", "@")):
        left.append("the body of the call")
        return []
    return [Item(name, value) for name, value in parse_qsl(body, keep_blank_values=True)]


def _header_items(line: str, left: list[str]) -> list[Item]:
    name, _, value = line.partition(":")
    name, value = name.strip(), value.strip()
    lower = name.lower()
    if lower in (
        "accept",
        "content-type",
        "user-agent",
        "host",
        "content-length",
        "accept-encoding",
        "accept-language",
        "connection",
        "origin",
        "referer",
    ):
        left.append(f"{name}: no credential")
        return []
    if lower == "authorization":
        scheme, _, rest = value.partition(" ")
        if scheme.lower() == "basic":
            try:
                user, password = basic.decode(value)
            except basic.BadBasic as error:
                left.append(f"Authorization: {error}")
                return []
            return [Item("username", user), Item("password", password)]
        if scheme.lower() == "bearer":
            cleaned = clean(rest)
            return [Item("token", cleaned.value, cleaned.notes)]
        if scheme.lower() == "oauth":
            pairs = re.findall(r'\b(\w+)="([^"]*)"', rest)
            left.append("the signature, nonce and timestamp of that one call")
            return [
                Item({"oauth_consumer_key": "client_key", "oauth_token": "token_id"}[key], val)
                for key, val in pairs
                if key in ("oauth_consumer_key", "oauth_token")
            ]
        left.append(f"Authorization by {scheme}")
        return []
    cleaned = clean(value)
    return [Item(f"header.{name}", cleaned.value, cleaned.notes)]


def read_headers(text: str) -> Recognised:
    """Header fields, one a line."""
    items: list[Item] = []
    left: list[str] = []
    for line in text.strip().splitlines():
        if line.strip():
            items += _header_items(line.strip(), left)
    return Recognised(
        "header", f"HTTP header fields with {len(items)} values", tuple(items), tuple(left)
    )


def read_authorization_url(text: str) -> Recognised:
    """The parameters of an authorization request (RFC 6749 §4.1.1).

    What belongs to that one request is left.
    """
    line = text.strip()
    parts = take_apart(line)
    items = [Item("authorization_endpoint", line.partition("?")[0])]
    left = []
    for name, value in parse_qsl(parts.query or "", keep_blank_values=True):
        if name in (
            "state",
            "nonce",
            "code_challenge",
            "code_challenge_method",
            "response_type",
            "prompt",
            "login_hint",
            "code",
        ):
            left.append(f"{name}: belongs to that one request")
        else:
            items.append(Item(name, value))
    return Recognised("authorization_url", "An authorization request", tuple(items), tuple(left))


def read_jwt(text: str, now: float) -> Recognised:
    """A JWT, decoded to be looked at and never trusted. ``now`` in seconds since 1970."""
    match = _JWT.match(text.strip())
    assert match is not None
    token = match.group(1)
    try:
        decoded = jwt.decode(token)
    except jws.BadToken as error:
        raise IntakeRefused(f"It looks like a token, but {error}.") from error
    facts = [("Algorithm", str(decoded.header.get("alg", "not said")))]
    facts += [
        (label, str(decoded.claims[name])[:200])
        for name, label in (
            ("iss", "Issuer"),
            ("aud", "Audience"),
            ("sub", "Subject"),
            ("client_id", "Client ID"),
            ("scope", "Scope"),
        )
        if name in decoded.claims
    ]
    if decoded.ends is not None:
        left = decoded.ends.timestamp() - now
        facts.append(
            (
                "Expires",
                f"in {in_words_seconds(left)}"
                if left > 0
                else f"expired {in_words_seconds(-left)} ago",
            )
        )
    return Recognised(
        "jwt",
        "A JSON Web Token, decoded and not trusted",
        (Item("token", token),),
        (),
        tuple(facts),
    )


def in_words_seconds(seconds: float) -> str:
    """Seconds in words."""
    from datetime import timedelta

    return in_words(timedelta(seconds=min(seconds, 10**10)))
