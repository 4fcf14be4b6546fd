"""Scopes: what we request is permitted, what the workloads need is granted, and the token is as new
as the request.
"""

from __future__ import annotations

from ..scopes import allows, closure, joined, lacking
from .base import Act, Fit, Halves, Pin, not_known, unwritten

KEY, LABEL = "scopes", "scopes"


def pin(halves: Halves) -> Pin:
    """requested ⊆ permitted; needed ⊆ closure(granted); tokens older than a scope change must be
    made anew (DOMAIN §2).
    """
    provider, caller = halves.provider, halves.caller
    theirs, ours = joined(provider.scopes), joined(caller.scopes)
    if not provider.known:
        return not_known(KEY, LABEL, ours)
    if not provider.scopes and caller.scopes:
        return unwritten(
            KEY,
            LABEL,
            ours,
            "It is not known which scopes this client is permitted.",
            Act("open_client", "Enter them"),
        )
    over = sorted(caller.scopes - closure(provider.scopes, halves.implies))
    if over:
        return _not_permitted(halves, over, theirs, ours)
    if short := _short(halves, caller.scopes):
        workload, operation, scopes = short
        return _differs(
            theirs,
            ours,
            f"{workload} needs {joined(scopes)} for {operation}, and we do not ask for it.",
            _blocked(halves, caller.scopes),
            *(Act("request_scope", f"Ask for {scope} too", scope) for scope in sorted(scopes)),
            Act("see_workloads", "See who needs it"),
        )
    if caller.granted is not None:
        held = closure(caller.granted, halves.implies)
        if gap := sorted(caller.scopes - held):
            again = (
                Act("sign_in", "Sign in again")
                if caller.grant == "authorization_code"
                else Act("test", "Get a new token")
            )
            return _differs(
                theirs,
                ours,
                f"The token we hold was granted {joined(caller.granted) or 'no scope'}; it "
                f"lacks {', '.join(gap)}. "
                "A change does not reach a token made before it.",
                _blocked(halves, caller.granted),
                again,
            )
    enough = ", and enough for every workload." if halves.needs else "."
    return halves.agreed(KEY, LABEL, theirs, ours, f"Everything we ask for is permitted{enough}")


def _not_permitted(halves: Halves, over: list[str], theirs: str, ours: str) -> Pin:
    remaining = halves.caller.scopes - set(over)
    before, after = _blocked(halves, halves.caller.scopes), _blocked(halves, remaining)
    workloads = {need.workload for need in halves.needs}
    why = f"{', '.join(over)} {'is' if len(over) == 1 else 'are'} not permitted for this client."
    if workloads:
        count = len(after - before)
        why += (
            f" Needed by {count} of {len(workloads)} "
            f"{'workload' if len(workloads) == 1 else 'workloads'} below."
            if count
            else " None of its workloads needs it."
        )
    acts = [
        Act(
            "permit_scope",
            "Ask for it" if halves.provider.managed else "Record it as permitted",
            text,
        )
        for text in over
    ]
    acts += [Act("drop_scope", "Drop it here", text) for text in over]
    return _differs(
        theirs,
        ours,
        why,
        after,
        *acts,
        *([Act("see_workloads", "See who needs it")] if workloads else []),
    )


def _blocked(halves: Halves, held: frozenset[str]) -> set[str]:
    return {
        need.workload
        for need in halves.needs
        if not allows(held, need.alternatives, halves.implies)
    }


def _short(halves: Halves, held: frozenset[str]) -> tuple[str, str, frozenset[str]] | None:
    for need in halves.needs:
        if gap := lacking(held, need.alternatives, halves.implies):
            return need.workload, need.operation, gap
    return None


def _differs(theirs: str, ours: str, why: str, stops: set[str], *acts: Act) -> Pin:
    return Pin(
        KEY,
        LABEL,
        Fit.DIFFERS,
        theirs or "none",
        ours or "none",
        why,
        acts=acts,
        stops=tuple(sorted(stops)),
    )
