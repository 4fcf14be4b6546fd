"""Putting recognised values where they belong: by their names, and never by a silent guess."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from ..schemes import Value
from .found import Item, Recognised

# Names under which values usually travel, without capitals and punctuation (common practice, no
# source). The longest that fits wins.
_NAMES: dict[str, tuple[str, ...]] = {
    "client_id": ("clientid", "appid", "applicationid", "oauthclientid"),
    "client_secret": (
        "clientsecret",
        "clientsecretvalue",
        "secretvalue",
        "appsecret",
        "consumersecret",
        "secret",
    ),
    "client_key": ("clientkey", "consumerkey", "oauthconsumerkey"),
    "token_id": ("oauthtoken", "token", "accesstoken", "tokenid"),
    "token_secret": ("tokensecret", "oauthtokensecret", "accesstokensecret"),
    "token": ("token", "accesstoken", "bearertoken", "apitoken", "bearer"),
    "api_key": ("apikey", "key", "xapikey", "apitoken", "keyvalue"),
    "key_id": ("keyid", "accesskeyid", "kid", "apikeyid", "accesskey"),
    "key_secret": ("keysecret", "secretkey", "secretaccesskey", "apisecret", "secret"),
    "username": ("username", "user", "login", "userid"),
    "password": ("password", "passwd", "pass", "pwd"),
    "issuer": ("issuer", "iss", "authority", "issueruri"),
    "authorization_endpoint": (
        "authorizationendpoint",
        "authorizationurl",
        "authorizationuri",
        "authuri",
        "authurl",
        "authorizeurl",
    ),
    "token_endpoint": ("tokenendpoint", "tokenurl", "tokenuri"),
    "api_base": (
        "apibase",
        "apibaseurl",
        "apiurl",
        "baseurl",
        "baseuri",
        "server",
        "serverurl",
        "endpoint",
    ),
    "redirect_uri": (
        "redirecturi",
        "redirecturis",
        "redirecturl",
        "callbackurl",
        "callback",
        "returnurl",
    ),
    "client_sign_in": ("tokenendpointauthmethod", "authmethod", "clientauthentication"),
    "scopes": ("scope", "scopes"),
    "account": ("account", "serviceaccount", "subject", "sub"),
    "audience": ("audience", "aud"),
    "stream_address": ("streamaddress", "stream", "streamhost", "address", "hostport"),
    "certificate": ("certificate", "clientcertificate", "cert", "tlscert"),
    "signing_secret": ("signingsecret", "webhooksecret", "webhooksigningsecret", "whsec"),
    "private_key": ("privatekey", "privatekeypem", "clientkeypem", "tlskey"),
}
# The ID of a secret stands beside its value in many downloads, and is what people paste in its
# place.
_SECRET_IDS = ("secretid", "clientsecretid", "keyname", "secretname", "tokenname")


@dataclass(frozen=True)
class Placed:
    """A value that belongs at a place, and the name it came under."""

    key: str
    label: str
    item: Item
    secret: bool


@dataclass(frozen=True)
class OpenChoice:
    """A place for which several different values came: a person has to choose."""

    key: str
    label: str
    names: tuple[str, ...]


@dataclass(frozen=True)
class Placement:
    """Where everything goes. ``left`` names what was recognised and has no place here.

    ``secret_id`` is the ID of the secret that came with it; empty: none, or several.
    """

    placed: tuple[Placed, ...]
    open: tuple[OpenChoice, ...]
    left: tuple[str, ...]
    secret_id: str = ""


def place(recognised: Recognised, wanted: Sequence[Value]) -> Placement:
    """Put each item at the value whose name it bears.

    An item serves one place, a place takes one value.

    A single value without a name goes to a place only if there is exactly one that it could be.
    """
    if recognised.kind == "value" and len(recognised.items) == 1 and not recognised.items[0].name:
        return _lone(recognised.items[0], wanted)
    best: dict[int, tuple[int, Value]] = {}
    for number, item in enumerate(recognised.items):
        fits = [(length, value) for value in wanted if (length := _fits(item.name, value))]
        if fits:
            best[number] = max(fits, key=lambda fit: fit[0])
    placed, unsure, used = [], [], set()
    for value in wanted:
        mine = {
            number: length for number, (length, chosen) in best.items() if chosen.key == value.key
        }
        if not mine:
            continue
        longest = max(mine.values())
        top = [
            recognised.items[number]
            for number, length in mine.items()
            if length == longest and recognised.items[number].value
        ]
        used |= {number for number, length in mine.items() if length == longest}
        if len({candidate.value for candidate in top}) == 1:
            placed.append(Placed(value.key, value.label, top[0], value.secret))
        elif top:
            unsure.append(
                OpenChoice(value.key, value.label, tuple(candidate.name for candidate in top))
            )
    left = [
        _item_in_words(item) for number, item in enumerate(recognised.items) if number not in used
    ]
    ids = {item.value for item in recognised.items if _names_an_id(item)}
    return Placement(
        tuple(placed), tuple(unsure), (*left, *recognised.left), ids.pop() if len(ids) == 1 else ""
    )


def _names_an_id(item: Item) -> bool:
    return _plain(item.name).endswith(_SECRET_IDS)


def _item_in_words(item: Item) -> str:
    name = item.name or "a value"
    return f"{name}: the ID of a secret, not its value" if _names_an_id(item) else name


def _lone(item: Item, wanted: Sequence[Value]) -> Placement:
    is_address = re.match(r"https?://", item.value) is not None
    could = [
        value
        for value in wanted
        if (value.type == "address") == is_address
        and value.type not in ("choice", "scopes", "certificate", "key")
    ]
    if len(could) == 1:
        return Placement((Placed(could[0].key, could[0].label, item, could[0].secret),), (), ())
    return Placement(
        (),
        tuple(OpenChoice(value.key, value.label, (item.name or "the value",)) for value in could),
        (),
    )


def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9]", "", name.lower())


def _words(name: str) -> list[str]:
    """The words of a name: at punctuation, and where a capital follows a small letter."""
    spaced = re.sub(r"([a-z0-9])([A-Z])", r"\1 \2", name)
    return [part for part in re.split(r"[^A-Za-z0-9]+", spaced.lower()) if part]


def _fits(name: str, value: Value) -> int:
    """How much of a name's end is the value's: the length of what fits, 0 for nothing.

    A further endpoint's values want its name before them.
    """
    part, _, key = value.key.rpartition(".")
    words = _words(name)
    if part:
        if part not in words:
            return 0
        words = words[words.index(part) + 1 :]
    if name.lower().startswith("header.") and key == "api_key":
        return 50
    wanted = {_plain(key), _plain(value.label.partition(" of the ")[0]), *_NAMES.get(key, ())}
    for start in range(len(words)):
        tail = "".join(words[start:])
        if tail in wanted:
            return len(tail) * 10 + (5 if start == 0 else 0) + (100 if part else 0)
    return 0
