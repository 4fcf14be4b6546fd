"""What pages and programs are told of workloads of connections, and what they send."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.pages.applications.shapes import EnvironmentOut


@dataclass(frozen=True)
class WarnedOut:
    """A warning about one use of a workload, and the act that mends it."""

    says: str
    act: str
    ref: str


@dataclass(frozen=True)
class UseOut:
    """An application that a workload calls."""

    id: int
    application: str
    application_name: str
    connection: str
    state: str
    operations: list[str]
    seen: dict[str, int]
    seen_at: datetime | None


@dataclass(frozen=True)
class DrawingProgram:
    """A program that draws for a workload."""

    client: UUID
    name: str


@dataclass(frozen=True)
class WorkloadOut:
    """A workload of connections."""

    id: UUID
    name: str
    environment: EnvironmentOut
    kind: str
    owner: str
    runs: str
    windows: list[str]
    next_window: datetime | None
    notice_days: int
    draws: bool
    # Programs whose token draws for it.
    programs: list[DrawingProgram]
    uses: list[UseOut]
    warnings: list[WarnedOut]
    version: int
    changed_at: datetime
    changed_by: str


@dataclass(frozen=True)
class CalledOut:
    """An application that a workload calls, in the list; ``connection`` is empty where none
    is named.
    """

    id: int
    application_name: str
    connection: str


@dataclass(frozen=True)
class WorkloadRow:
    """A workload in the list: the first of what it calls and how many more, the first warning and
    how many.
    """

    id: UUID
    name: str
    environment: EnvironmentOut
    kind: str
    owner: str
    runs: str
    windows: list[str]
    next_window: datetime | None
    calls: list[CalledOut]
    more_calls: int
    warning: str
    warnings: int
    tags: list[str]


@dataclass(frozen=True)
class Workloads:
    """A page of workloads."""

    items: list[WorkloadRow]
    next: str | None


class WorkloadIn(RequestBody):
    """A new workload; ``uses`` may name what it calls at once."""

    name: str
    environment: str
    kind: str = "job"
    owner: str = ""
    runs: str = ""
    windows: list[str] = []
    notice_days: int = 0
    draws: bool = False


class WorkloadChange(RequestBody):
    """What to change; absent: stays."""

    name: str | None = None
    environment: str | None = None
    kind: str | None = None
    owner: str | None = None
    runs: str | None = None
    windows: list[str] | None = None
    notice_days: int | None = None
    draws: bool | None = None


class UseIn(RequestBody):
    """What a workload calls: by a connection, or an application whose connection is not set up
    yet.
    """

    application: str = ""
    connection: str = ""
    operations: list[str] = []


class UseChange(RequestBody):
    """What to change; absent: stays. An empty ``connection``: none."""

    connection: str | None = None
    operations: list[str] | None = None


class CallLogIn(RequestBody):
    """An access log, a HAR file, or lines with method and path."""

    text: str


class CallLogTake(CallLogIn):
    """The same, to be taken as the operations: beside those recorded, or in their place."""

    only_seen: bool = False


@dataclass(frozen=True)
class CountOut:
    """A call and how often it was seen."""

    name: str
    count: int


@dataclass(frozen=True)
class SeenOut:
    """What a log says that was called."""

    operations: list[CountOut]
    others: list[CountOut]
    lines: int
    unread: int
    not_recorded: list[str]
    not_seen: list[str]
