"""What is wrong with how a job, report, script or agent uses connections: above all, one of its
environment that is not set up.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from .health import State


@dataclass(frozen=True)
class UsedConnection:
    """One application that a workload calls, and the connection it takes (``ref`` empty: none is
    named).

    ``elsewhere`` are connections of the application in other environments, ``choices`` those in the
    workload's own; ``missing`` says what the connection still lacks before anybody can try it.
    """

    application: str
    ref: str = ""
    connection_environment: str = ""
    state: State = State.NOT_PROVEN
    missing: tuple[str, ...] = ()
    choices: tuple[str, ...] = ()
    elsewhere: tuple[str, ...] = ()


@dataclass(frozen=True)
class UseWarning:
    """A warning about one use, and what mends it: set_up, choose, move, finish or nothing."""

    says: str
    act: str
    ref: str = ""


def warn(workload: str, environment: str, uses: Sequence[UsedConnection]) -> tuple[UseWarning, ...]:
    """What is to be said of a workload's connections.

    Only one environment is set up and the other forgotten: say so at once (common practice, no
    source).
    """
    found = []
    for use in uses:
        if not use.ref and use.choices:
            found.append(
                UseWarning(
                    f"{workload} calls {use.application}, and no connection is named. "
                    f"{_list(use.choices)} would serve.",
                    "choose",
                    use.choices[0],
                )
            )
        elif not use.ref:
            also = f" It is set up only as {_list(use.elsewhere)}." if use.elsewhere else ""
            found.append(
                UseWarning(
                    f"{workload} runs in {environment}, where {use.application} is not set "
                    f"up.{also}",
                    "set_up",
                )
            )
        elif use.connection_environment != environment:
            mend = (
                f" {_list(use.choices)} is in {environment}."
                if use.choices
                else f" None is set up in {environment}."
            )
            found.append(
                UseWarning(
                    f"{workload} runs in {environment} and uses {use.ref}, which is in "
                    f"{use.connection_environment}.{mend}",
                    "move" if use.choices else "set_up",
                    use.choices[0] if use.choices else "",
                )
            )
        elif use.missing:
            found.append(
                UseWarning(
                    f"{use.ref} is not set up yet: {_list(use.missing)} "
                    f"{'is' if len(use.missing) == 1 else 'are'} missing.",
                    "finish",
                    use.ref,
                )
            )
        elif use.state is State.UNLATCHED:
            found.append(UseWarning(f"{use.ref} does not work at the moment.", "look", use.ref))
    return tuple(found)


def _list(names: Sequence[str]) -> str:
    return ", ".join(names[:-1]) + f" and {names[-1]}" if len(names) > 1 else "".join(names)
