"""All redirect URIs of a client against all that its callers send, and what a change of
them stops.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from .differ import MarkedPair, mark
from .redirects import ClientKind, Lint, Match, lint, match
from .registration import RegistrationStep


@dataclass(frozen=True)
class SentUri:
    """What a connection sends: its reference name, the URI (empty: none is filled in), the
    workloads that depend on it, and whether it holds tokens.
    """

    ref: str
    uri: str
    workloads: tuple[str, ...] = ()
    signed_in: bool = False
    renews: bool = False


@dataclass(frozen=True)
class RegisteredUri:
    """A URI that the provider holds: who matches it, and what is wrong with it in itself.

    Nobody: it is registered and not used.
    """

    uri: str
    used_by: tuple[str, ...]
    lint: tuple[Lint, ...]


@dataclass(frozen=True)
class UriAnswer:
    """A caller's URI and the provider's answer to it, with the difference to the nearest registered
    one marked.
    """

    sent: SentUri
    match: Match
    marked: MarkedPair | None


@dataclass(frozen=True)
class UriComparison:
    """Both lists."""

    registered: tuple[RegisteredUri, ...]
    callers: tuple[UriAnswer, ...]


@dataclass(frozen=True)
class UriEffect:
    """What a change does to one caller, and when: ``stops``, ``starts``, or stays as it was (not
    told).
    """

    ref: str
    stops: bool
    says: str
    workloads: tuple[str, ...]


def work_out(
    registered: tuple[str, ...], callers: Sequence[SentUri], kind: ClientKind = "web"
) -> UriComparison:
    """Compare every URI of the callers with every registered one."""
    answered = tuple(answer(registered, caller, kind) for caller in callers)
    matched = {
        uri: tuple(one.sent.ref for one in answered if one.match.match and one.match.nearest == uri)
        for uri in registered
    }
    return UriComparison(
        tuple(RegisteredUri(uri, matched[uri], lint(uri)) for uri in registered), answered
    )


def answer(registered: tuple[str, ...], sent: SentUri, kind: ClientKind = "web") -> UriAnswer:
    """The provider's answer to one URI."""
    found = match(registered, sent.uri or None, kind)
    marked = (
        mark(found.nearest, sent.uri)
        if found.nearest is not None and not found.match and sent.uri
        else None
    )
    return UriAnswer(sent, found, marked)


def effects(
    before: tuple[str, ...],
    after: tuple[str, ...],
    callers: Sequence[SentUri],
    kind: ClientKind = "web",
) -> tuple[UriEffect, ...]:
    """Whom a change of the registered URIs stops or helps.

    Redirect URIs are looked at when somebody signs in (RFC 6749 §3.1.2.3), not when a token is used
    or renewed, so what holds a token stops at its next sign-in and not at once.
    """
    found = []
    for caller in callers:
        works, worked = (
            match(after, caller.uri or None, kind),
            match(before, caller.uri or None, kind),
        )
        if worked.match and not works.match:
            when = (
                "at its next sign-in; the tokens it holds are renewed until then"
                if caller.signed_in and caller.renews
                else "when the token it holds expires, because nobody can sign in again"
                if caller.signed_in
                else "at once: nobody can sign in"
            )
            found.append(
                UriEffect(
                    caller.ref, True, f"{caller.ref} stops {when}. {works.reason}", caller.workloads
                )
            )
        elif works.match and not worked.match:
            found.append(
                UriEffect(caller.ref, False, f"{caller.ref} can sign in then.", caller.workloads)
            )
    return tuple(found)


def acts(
    application: str, client: str, before: tuple[str, ...], after: tuple[str, ...]
) -> tuple[RegistrationStep, ...]:
    """The change as numbered acts in the application's own screens: first what is added, so that
    nobody is left without, then what is taken away.
    """
    added = [text for text in after if text not in before]
    gone = [text for text in before if text not in after]
    steps = [
        RegistrationStep(
            "planned:open", f"In {application}, open the client with this name", client
        )
    ]
    steps += [
        RegistrationStep(f"planned:add:{uri}", "Add this redirect URI, exactly", uri)
        for uri in added
    ]
    steps += [
        RegistrationStep(f"planned:drop:{uri}", "Take this redirect URI away", uri) for uri in gone
    ]
    return (
        *steps,
        RegistrationStep(
            "planned:save",
            "Save, and look whether the list there is now the one shown here",
            "\n".join(after),
        ),
    )
