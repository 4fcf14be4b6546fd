"""What ``nlatch`` ends with. docs/commands.md lists them; they stay."""

from __future__ import annotations

from enum import IntEnum


class ExitCode(IntEnum):
    """How a command went."""

    DONE = 0
    # It was answered, and the answer is no: a test failed, the journal does not hold.
    NO = 1
    # The command, a file or a value is wrong; nothing was done.
    WRONG = 2
    # Not now, or not all of it: something stands in the way, or was left as it is.
    LEFT = 3
    # Not let in, or not allowed.
    REFUSED = 4
    NOT_FOUND = 5
    # The desk, or the application behind it, does not answer as it should.
    UNREACHABLE = 6
    # What was waited for did not come in time.
    TIMED_OUT = 7
    # A fault of the command itself (EX_SOFTWARE of sysexits.h).
    FAULT = 70
