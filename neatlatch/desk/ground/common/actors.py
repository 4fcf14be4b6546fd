"""Who does something: a person, or what is none: the clock, a program, a protocol.

Passed first to every service.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from neatlatch.core.program_tokens import ProgramGrant


class Actor(Protocol):
    """The one who does something. A person is one; what is none is a :class:`Program`.

    ``username`` is what the journal and a row's ``changed_by`` say, ``shown_name`` what people
    read.
    """

    @property
    def username(self) -> str: ...

    @property
    def shown_name(self) -> str: ...


@dataclass(frozen=True)
class Program:
    """An actor that is no person, by what it is called. Never by a name that somebody typed."""

    name: str

    @property
    def username(self) -> str:
        """The name, as far as there is room for it."""
        return self.name[:150]

    @property
    def shown_name(self) -> str:
        """The name."""
        return self.name


# Stands before the name of a program that has a token; no login name holds a “/”.
BEFORE_PROGRAMS = "program/"


@dataclass(frozen=True)
class ProgramCaller:
    """A program that calls the API with a token of its own."""

    # What people called it.
    name: str
    # The ID of its client.
    client_id: str
    grant: ProgramGrant

    @property
    def username(self) -> str:
        """Its name behind :data:`BEFORE_PROGRAMS`."""
        return f"{BEFORE_PROGRAMS}{self.name}"[:150]

    @property
    def shown_name(self) -> str:
        """The same."""
        return self.username


NOBODY = Program("nobody")
CLOCK = Program("the schedule")
TEST = Program("the test")
RENEWAL = Program("the keeper")
JOURNAL_KEEPER = Program("the keeper of the journal")
SAFE_KEEPER = Program("the keeper of the safe")
HOUSE = Program("the house authority")
TLS_LISTENER = Program("the TLS listener")
# The person who runs a command on the machine itself.
MACHINE = Program("the machine's operator")
# The holder of a link is not known here.
BY_LINK = Program("by link")
BY_PROTOCOL = Program("registration by protocol")
