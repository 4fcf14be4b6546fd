"""How a command tells that a desk refused, and what it ends with then."""

from __future__ import annotations

import sys

from neatlatch.client import (
    BadRequest,
    CannotReach,
    DeskFailed,
    KeyRefused,
    LatchError,
    NoKey,
    NotAllowed,
    NotFound,
    NotReady,
    TokenUnavailable,
    TooManyRequests,
)
from neatlatch.exit_codes import ExitCode

from . import output

_BY_ERROR: tuple[tuple[type[LatchError], ExitCode], ...] = (
    (NoKey, ExitCode.REFUSED),
    (KeyRefused, ExitCode.REFUSED),
    (NotAllowed, ExitCode.REFUSED),
    (NotFound, ExitCode.NOT_FOUND),
    (NotReady, ExitCode.LEFT),
    (BadRequest, ExitCode.WRONG),
    (CannotReach, ExitCode.UNREACHABLE),
    (DeskFailed, ExitCode.UNREACHABLE),
    (TokenUnavailable, ExitCode.UNREACHABLE),
    (TooManyRequests, ExitCode.UNREACHABLE),
)


def exit_code_of(error: LatchError) -> ExitCode:
    """Return what a command ends with where it failed by an error."""
    return next((code for kind, code in _BY_ERROR if isinstance(error, kind)), ExitCode.FAULT)


def tell(error: LatchError) -> ExitCode:
    """Say why, on standard error; return what the command ends with."""
    for text in error.errors.values() or [str(error)]:
        output.complain(text)
    if error.code:
        more = f"“nlatch message {error.code}” says more"
        print(f"nlatch: code {error.code}; {more}", file=sys.stderr)
    return exit_code_of(error)
