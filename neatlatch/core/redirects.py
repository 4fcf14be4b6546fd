"""Redirect URIs: does the provider's list hold the one we send, and if not, how do they differ?

Compared as strings (RFC 6749 §3.1.2.3, RFC 9700 §2.1), with one exception: a native app may use any
port of a loopback address literal (RFC 8252 §7.3).
"""

from __future__ import annotations

import fnmatch
import re
from dataclasses import dataclass
from typing import Literal

from . import addresses

ClientKind = Literal["web", "native"]

_LOOPBACK_LITERALS = ("127.0.0.1", "[::1]")
_LOCALHOST_WARNING = "localhost is NOT RECOMMENDED"
_LOCALHOST_PORT_WARNING = (
    'RFC 9700 2.1 words the exception as "localhost redirection URIs of native apps" and points '
    "to RFC 8252 7.3; servers differ here"
)
# A query parameter that holds another address is how open redirectors look (RFC 9700 §4.11).
_REDIRECTOR_WORDS = ("url", "uri", "redirect", "return", "next", "goto", "target", "continue")
_RUNNABLE_SCHEMES = ("javascript", "data", "file", "vbscript", "about", "blob")


@dataclass(frozen=True)
class Difference:
    """One way in which two redirect URIs differ: the piece of the URI, and a sentence."""

    piece: str
    says: str


@dataclass(frozen=True)
class Match:
    """Whether a redirect URI would be taken, and why.

    ``nearest`` is the registered URI the answer speaks of; ``alike`` says that the two are the same
    address once normalised, although they are compared character by character.
    """

    match: bool
    reason_code: str
    reason: str
    nearest: str | None = None
    differences: tuple[Difference, ...] = ()
    simple_string_equal: bool = False
    alike: bool = False
    warnings: tuple[str, ...] = ()


@dataclass(frozen=True)
class Lint:
    """Something wrong with a redirect URI in itself. ``grave`` ones are refused on registering."""

    code: str
    says: str
    grave: bool
    source: str


def match(registered: tuple[str, ...], presented: str | None, client: ClientKind = "web") -> Match:
    """Would a provider that keeps to the standard take this redirect URI?

    ``registered`` are the provider's, ``presented`` is ours (``None``: left out of the request).
    """
    if presented is None:
        return _left_out(registered)
    equal = presented in registered
    alike = any(addresses.equivalent(presented, text) for text in registered)
    ours = addresses.take_apart(presented)
    warnings: tuple[str, ...] = (_LOCALHOST_WARNING,) if ours.host == "localhost" else ()

    def no(
        code: str, reason: str, nearest: str | None = None, differences: tuple[Difference, ...] = ()
    ) -> Match:
        return Match(False, code, reason, nearest, differences, equal, alike, warnings)

    if not addresses.is_absolute(presented):
        if presented.strip() != presented and presented.strip() in registered:
            return no("end_space", "there is a space or line break at an end", presented.strip())
        return no("relative", "it must be an absolute URI, with its scheme (RFC 6749 §3.1.2)")
    if ours.fragment is not None:
        return no(
            "fragment",
            "a redirect URI must not have a fragment, not even an empty one (RFC 6749 §3.1.2)",
        )
    if equal:
        return Match(
            True, "exact", "the two are the same string", presented, (), True, True, warnings
        )
    if not registered:
        return no("none_registered", "the provider has no redirect URI for this client")

    if client == "native":
        for text in registered:
            if _loopback_but_port(text, presented):
                return Match(
                    True,
                    "loopback_port",
                    (
                        "only the port of a loopback address differs, and any is allowed (RFC "
                        "8252 §7.3)"
                    ),
                    text,
                    (),
                    False,
                    alike,
                    warnings,
                )

    nearest = min(
        registered,
        key=lambda text: (
            len(_differences(text, presented, client)),
            -_common_start(text, presented),
            text,
        ),
    )
    if presented.strip() == nearest:
        return no(
            "end_space",
            "there is a space or line break at an end",
            nearest,
            (Difference("end space", "Ours has a space or line break at an end."),),
        )
    pattern = next(
        (text for text in registered if "*" in text and fnmatch.fnmatchcase(presented, text)), None
    )
    if pattern is not None:
        return no(
            "wildcard",
            (
                "a pattern is registered, but redirect URIs are compared as they stand (RFC "
                "9700 §4.1.3)"
            ),
            pattern,
        )
    differences = _differences(nearest, presented, client)
    if addresses.equivalent(nearest, presented):
        return no(
            "normalisation_only",
            "they look alike, but are compared character by character",
            nearest,
            differences,
        )
    theirs = addresses.take_apart(nearest)
    if theirs.scheme == ours.scheme and (theirs.host is None) != (ours.host is None):
        return no(
            "different_uri",
            "with // the next word becomes a host; without it, it is a path",
            nearest,
            differences,
        )
    first = differences[0]
    if first.piece == "port" and ours.host == "localhost":
        warnings += (_LOCALHOST_PORT_WARNING,)
    return no(first.piece, first.says, nearest, differences)


def _left_out(registered: tuple[str, ...]) -> Match:
    if len(registered) == 1:
        return Match(
            True,
            "omitted_single",
            "left out, and exactly one is registered (RFC 6749 §3.1.2.3)",
            registered[0],
            warnings=("OpenID Connect requires the parameter",),
        )
    if not registered:
        return Match(False, "none_registered", "left out, and none is registered")
    return Match(
        False, "omitted_multiple", "left out although several are registered (RFC 6749 §3.1.2.3)"
    )


def _loopback_but_port(registered: str, presented: str) -> bool:
    a, b = addresses.take_apart(registered), addresses.take_apart(presented)
    if a.scheme != "http" or a.host not in _LOOPBACK_LITERALS or a.userinfo is not None:
        return False
    if not _may_be_port(b.port):
        return False
    return (a.scheme, a.userinfo, a.host, a.path, a.query, a.fragment) == (
        b.scheme,
        b.userinfo,
        b.host,
        b.path,
        b.query,
        b.fragment,
    )


def _may_be_port(text: str | None) -> bool:
    return text is None or addresses.is_port(text)


def _common_start(text: str, other: str) -> int:
    count = 0
    for a, b in zip(text, other, strict=False):
        if a != b:
            break
        count += 1
    return count


def _differences(registered: str, presented: str, client: ClientKind) -> tuple[Difference, ...]:
    """Every piece that differs, in the order scheme, host, port, path, query, fragment."""
    a, b = addresses.take_apart(registered), addresses.take_apart(presented)
    found: list[Difference] = []
    if a.scheme != b.scheme:
        found.append(Difference("scheme", _scheme_words(a.scheme, b.scheme)))
    if (a.userinfo, a.host) != (b.userinfo, b.host):
        found.append(Difference("host", _host_words(a, b)))
    free_port = (
        client == "native"
        and a.scheme == "http"
        and a.host in _LOOPBACK_LITERALS
        and _may_be_port(b.port)
    )
    if a.port != b.port and not free_port:
        found.append(Difference("port", _port_words(a, b)))
    if a.path != b.path:
        found.append(Difference("path", _path_words(a.path, b.path)))
    if a.query != b.query:
        found.append(Difference("query", _query_words(a.query, b.query)))
    if a.fragment != b.fragment:
        found.append(Difference("fragment", "One has a fragment (#), the other has not."))
    return tuple(found)


def _scheme_words(theirs: str | None, ours: str | None) -> str:
    if (theirs or "").lower() == (ours or "").lower():
        return f"The scheme is written “{ours}” here and “{theirs}” there."
    return f"The provider has {theirs}, we send {ours}."


def _host_words(theirs: addresses.Address, ours: addresses.Address) -> str:
    if ours.userinfo is not None:
        return f"“{ours.userinfo}” is before @, so the host is {ours.host}."
    a, b = theirs.host or "", ours.host or ""
    if a.lower() == b.lower():
        return f"The host differs in upper and lower case: {a} and {b}."
    if b.lower() == f"www.{a.lower()}" or a.lower() == f"www.{b.lower()}":
        return f"One host has www. and the other has not: {a} and {b}."
    if addresses.is_loopback_host(a) and addresses.is_loopback_host(b):
        return f"{b} and {a} are both this machine, but are different hosts (RFC 8252 §7.3)."
    if b.lower().startswith(a.lower() + "."):
        return f"{a} is only the start of the host {b}."
    return f"The provider has the host {a}, we send {b}."


def _port_words(theirs: addresses.Address, ours: addresses.Address) -> str:
    if not _may_be_port(ours.port):
        return f"“{ours.port}” is no port; one is a number up to 65535."
    if theirs.effective_port == ours.effective_port:
        return f"One writes the usual port {ours.effective_port} out and the other leaves it off."
    return (
        f"The provider has port {theirs.effective_port or 'none'}, we send "
        f"{ours.effective_port or 'none'}."
    )


def _path_words(theirs: str, ours: str) -> str:
    if ours == theirs + "/":
        return (
            "Ours ends in “/”, theirs does not. Redirect URIs are compared character by character."
        )
    if theirs == ours + "/":
        return (
            "Theirs ends in “/”, ours does not. Redirect URIs are compared character by character."
        )
    if ours.lower() == theirs.lower():
        return "The path differs in upper and lower case, and that counts."
    if addresses.normalise(ours) == addresses.normalise(theirs):
        return "The path is escaped differently."
    if "%2f" in (ours + theirs).lower() and _undo_slash(ours) == _undo_slash(theirs):
        return "An escaped slash (%2F) is not a slash."
    if theirs and ours.startswith(theirs.rstrip("/") + "/"):
        return f"The provider's path {theirs} is only the start of ours."
    return f"The provider has the path {theirs or '(none)'}, we send {ours or '(none)'}."


def _undo_slash(path: str) -> str:
    return re.sub("%2f", "/", path, flags=re.IGNORECASE)


def _query_words(theirs: str | None, ours: str | None) -> str:
    if theirs is None:
        return f"We send a query (?{ours}) that is not registered."
    if ours is None:
        return f"The provider has a query (?{theirs}) that we leave off."
    if sorted(theirs.split("&")) == sorted(ours.split("&")):
        return "The query has the same parts in another order, and the order counts."
    return f"The provider has the query ?{theirs}, we send ?{ours}."


def lint(uri: str) -> tuple[Lint, ...]:
    """What is wrong with a redirect URI in itself, gravest first. Empty: nothing.

    Rules: absolute, no fragment (RFC 6749 §3.1.2), no wildcard (RFC 9700 §4.1.3), https unless
    loopback or a private-use scheme with a dot (RFC 8252 §7.1, §8.3), no user info (RFC 9110
    §4.2.4), no open redirector (RFC 9700 §4.11).
    """
    found: list[Lint] = []

    def add(code: str, says: str, source: str, grave: bool = True) -> None:
        found.append(Lint(code, says, grave, source))

    if not uri.strip():
        return (Lint("empty", "There is nothing here yet.", True, "RFC 6749 §3.1.2"),)
    if uri != uri.strip():
        add(
            "end_space",
            "There is a space or line break at an end; it would become part of the address.",
            "common practice, no source",
        )
    elif re.search(r"\s", uri):
        add("space", "There is a space inside; a URI cannot hold one.", "RFC 3986 §2")
    bare = uri.strip()
    address = addresses.take_apart(bare)
    if not addresses.is_absolute(bare):
        add(
            "relative", "It needs its scheme, for example https:// at the start.", "RFC 6749 §3.1.2"
        )
        return tuple(found)
    scheme = (address.scheme or "").lower()
    if address.fragment is not None:
        add(
            "fragment",
            "It has a fragment (#). A redirect URI must not have one.",
            "RFC 6749 §3.1.2",
        )
    if "*" in bare:
        add(
            "wildcard",
            "It holds *. Patterns are not allowed; each URI is registered in full.",
            "RFC 9700 §4.1.3",
        )
    if slots := addresses.placeholders(bare):
        add("placeholder", f"{slots[0]} still has to be filled in.", "common practice, no source")
    if scheme in ("http", "https"):
        if not address.host:
            add("no_host", "It has no host.", "RFC 9110 §4.2.1")
        if scheme == "http" and not addresses.is_loopback_host(address.host):
            add(
                "not_https",
                (
                    "It must be https, unless it is a loopback address; the code would travel "
                    "in the open."
                ),
                "RFC 6749 §3.1.2.1",
            )
        if address.host == "localhost":
            add(
                "localhost",
                "Better 127.0.0.1: localhost is not recommended, and its port is not free.",
                "RFC 8252 §8.3",
                grave=False,
            )
        elif address.host and not addresses.is_host(address.host):
            add(
                "host",
                f"“{address.host}” is no host: brackets stand round an IPv6 address only.",
                "RFC 3986 §3.2.2",
            )
        if address.port is not None and not addresses.is_port(address.port):
            add("port", f"“{address.port}” is not a port number.", "RFC 3986 §3.2.3")
    elif scheme in _RUNNABLE_SCHEMES:
        add(
            "runnable",
            (
                f"“{scheme}:” makes the browser run or read something; it must never be a "
                f"redirect URI."
            ),
            "RFC 9700 §4.1.1",
        )
    elif not private_use_scheme(bare):
        add(
            "no_dot",
            f"A private-use scheme needs a dot, like example.app:/return; “{scheme}” has none.",
            "RFC 8252 §7.1",
        )
    if address.userinfo is not None:
        add(
            "userinfo",
            f"“{address.userinfo}@” is before the host; user names do not belong in it.",
            "RFC 9110 §4.2.4",
        )
    if address.query and _names_another_address(address.query):
        add(
            "redirector",
            "Its query looks like one that sends people on to any address.",
            "RFC 9700 §4.11",
            grave=False,
        )
    if bare != addresses.normalise(bare) and not found:
        add(
            "not_normal",
            f"It can be written plainer: {addresses.normalise(bare)}",
            "RFC 3986 §6.2.2",
            grave=False,
        )
    return tuple(sorted(found, key=lambda uri: not uri.grave))


def _names_another_address(query: str) -> bool:
    names = (part.partition("=")[0].lower() for part in query.split("&") if "=" in part)
    return any(word in name for name in names for word in _REDIRECTOR_WORDS)


def private_use_scheme(uri: str) -> bool:
    """Whether a URI's private-use scheme is built on a reversed domain name, so has a dot (RFC 8252
    §7.1, §8.4).
    """
    return "." in (addresses.take_apart(uri).scheme or "")


def token_request(authorization_request: str | None, token_request: str | None) -> tuple[bool, str]:
    """Whether the token request repeats the redirect URI as it must (RFC 6749 §4.1.3).

    Returns verdict and reason.
    """
    if authorization_request is None:
        if token_request is None:
            return True, "it was not in the authorization request"
        return False, "it was not in the authorization request, but is in the token request"
    if token_request is None:
        return False, "it was in the authorization request, so the token request must repeat it"
    if authorization_request != token_request:
        return False, "the two must be identical"
    return True, "identical"
