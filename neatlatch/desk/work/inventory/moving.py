"""Saying, before a file is applied, which secrets and tokens it would send to a new place. What is asked when it is applied is worked out again, from what is saved."""

from __future__ import annotations

from dataclasses import replace
from typing import Any
from uuid import UUID

from neatlatch.core import destinations, profiles
from neatlatch.core.inventory.merging import Change, Outcome
from neatlatch.core.schemes import KINDS, Scheme
from neatlatch.desk.estate.records.connections.models import TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential

_BLOCK = 500


def said(outcome: Outcome) -> Outcome:
    """The outcome, in which each change of a connection says what it would send where."""
    content, schemes = outcome.content, _Schemes(outcome.content.get("applications", {}))
    changing = [one for one in outcome.changes if one.kind == "connections" and one.act in ("add", "change")]
    named = {_named(reference) for one in changing for reference in content["connections"][one.key]["secrets"].values()}
    known = _sent_to([one for one in named if one is not None])
    tokens = dict(TokenSet.objects.values_list("connection__ref", "sent_to"))
    words: dict[str, list[str]] = {}
    for one in changing:
        given = content["connections"][one.key]
        scheme = schemes.of(given["place"].partition("/")[0], given["scheme"])
        held = [(key, *known[identity]) for key, reference in given["secrets"].items() if (identity := _named(reference)) in known]
        held += [("", "token", tokens[one.key])] if one.key in tokens else []
        for key, hint, cleared in held:
            beyond = (
                destinations.beyond(destinations.of_secret(scheme, key, given["values"]), cleared) if scheme is not None and cleared else ()
            )
            if beyond:
                words.setdefault(one.key, []).append(f"{key or 'token'} {hint if key else ''}".strip() + f" goes to {destinations.said(cleared)} and would go to "
                                                     f"{destinations.said(beyond)}: that wants leave")  # fmt: skip
    outcome.changes = [_with(one, words) for one in outcome.changes]
    return outcome


def _with(change: Change, words: dict[str, list[str]]) -> Change:
    return replace(change, says=(*change.says, *words[change.key])) if change.kind == "connections" and change.key in words else change


def _named(reference: str) -> UUID | None:
    try:
        return UUID(reference.removeprefix("safe:"))
    except ValueError:
        return None


def _sent_to(wanted: list[UUID]) -> dict[UUID | None, tuple[str, list[str]]]:
    found: dict[UUID | None, tuple[str, list[str]]] = {}
    for start in range(0, len(wanted), _BLOCK):
        rows = Credential.objects.filter(pk__in=wanted[start : start + _BLOCK]).exclude(fingerprint="").values_list("pk", "hint", "sent_to")
        found |= {identity: (hint, places) for identity, hint, places in rows}
    return found


class _Schemes:
    """The schemes of the file's applications; each profile is read once."""

    def __init__(self, applications: dict[str, dict[str, Any]]) -> None:
        self.applications = applications
        self.read: dict[str, profiles.Profile | None] = {}

    def of(self, application: str, scheme: str) -> Scheme | None:
        """A scheme of an application, ``None`` where the file's profile cannot be read: applying says why."""
        if application not in self.read:
            try:
                self.read[application] = profiles.from_dict(self.applications.get(application, {}).get("profile", {}))
            except profiles.BadProfile:
                self.read[application] = None
        profile = self.read[application]
        return None if profile is None else profile.scheme(scheme) or KINDS.get(scheme)
