"""Rights: what an account's role or permission allows is enough for the workloads, where a scheme
has no scopes.
"""

from __future__ import annotations

from ..schemes import OAUTH1
from ..scopes import joined, lacking
from .base import Act, Fit, Halves, Pin, not_known

KEY = "rights"


def pins(halves: Halves) -> tuple[Pin, ...]:
    """One pin where the profile has roles, else none.

    A permission that is changed after a token was made does not reach that token (common practice,
    no source).
    """
    return (_pin(halves),) if halves.roles else ()


def _pin(halves: Halves) -> Pin:
    label, held = halves.roles_label, halves.provider.rights
    needed = sorted(
        {one for need in halves.needs for one in lacking((), need.alternatives, halves.implies)}
    )
    ours = f"needs {', '.join(needed)}" if needed else "no workload needs any"
    if not halves.provider.known:
        return not_known(KEY, label, ours)
    theirs = joined(held)
    if not held:
        acts = tuple(Act("note_right", f"It is {role}", role) for role in halves.roles[:4])
        return Pin(
            KEY,
            label,
            Fit.MISSING,
            "—",
            ours,
            f"It has not been said which {label} it has there.",
            acts=acts,
            unwritten=True,
        )
    for need in halves.needs:
        if gap := lacking(held, need.alternatives, halves.implies):
            acts = tuple(Act("note_right", f"It has {text} now", text) for text in sorted(gap))
            return Pin(
                KEY,
                label,
                Fit.DIFFERS,
                theirs,
                ours,
                (
                    f"{need.workload} needs {joined(gap)} for {need.operation}; the {label} there "
                    f"is {theirs}."
                ),
                acts=(*acts, Act("see_workloads", "See who needs it")),
            )
    token = halves.caller.secrets.get("token_secret")
    changed = halves.provider.rights_changed_at
    if (
        halves.caller.scheme == OAUTH1
        and token is not None
        and changed is not None
        and token.put_in is not None
        and token.put_in < changed
    ):
        return Pin(
            KEY,
            label,
            Fit.DIFFERS,
            theirs,
            f"token of {token.put_in.day} {token.put_in:%b}",
            (
                f"The {label} was changed after the token was made, and does not reach it. Make "
                f"a new token there and put it in."
            ),
            acts=(Act("put_secret", "Put in the new token secret", "token_secret"),),
        )
    return halves.agreed(KEY, label, theirs, ours, _enough(halves))


def _enough(halves: Halves) -> str:
    return "Enough for every workload." if halves.needs else "No workload needs any."
