"""How each scheme lets us in: what is proven at Sign in, and how a call is dressed.

One file for each family.
"""

from __future__ import annotations

from neatlatch.core.schemes import OAUTH2, STREAM

from ..ladder_plan import LadderCalls, SchemeEntry
from .every_call import EveryCall
from .stream import StreamEntry
from .tokens import Tokens


def entry_for(calls: LadderCalls) -> SchemeEntry:
    """The entry for the scheme of a run."""
    if calls.plan.scheme in OAUTH2:
        return Tokens(calls)
    return StreamEntry(calls) if calls.plan.scheme == STREAM else EveryCall(calls)


__all__ = ["EveryCall", "StreamEntry", "Tokens", "entry_for"]
