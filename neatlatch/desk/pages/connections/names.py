"""Names of connections: giving another, former ones, and proposals of names that are the same in
each environment.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NoReturn

from django.db.models import Count
from django.http import HttpRequest
from django.urls import register_converter
from ninja import Router
from pydantic import Field

from neatlatch.desk.estate.connections import naming
from neatlatch.desk.estate.lookups import find_connection
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.common.request_bodies import RequestBody

from .shapes import ConnectionOut
from .shaping import full

router = Router()
# Whatever comes below here, when no other address fits.
unknown = Router()


class ReferenceConverter:
    """The reference of a connection in an address, its slash as it is or escaped."""

    regex = "[^/]+/[^/]+"

    def to_python(self, value: str) -> str:
        """As it is."""
        return value

    def to_url(self, value: str) -> str:
        """As it is."""
        return value


register_converter(ReferenceConverter, "ref")


class NameIn(RequestBody):
    """A name to give."""

    name: str


@dataclass(frozen=True, kw_only=True)
class NameProposal:
    """A proposed name: the reference of now, the one proposed, and why the connection cannot have
    it (empty: it can). ``workloads`` counts those that use it.
    """

    ref: str
    name: str
    becomes: str
    obstacle: str
    workloads: int


@dataclass(frozen=True, kw_only=True)
class NameProposals:
    """A page of proposals; ``following`` asks for the next (empty: there is none)."""

    items: list[NameProposal]
    following: str


class Renaming(RequestBody):
    """A connection and the name it is to have."""

    ref: str
    name: str


class Renamings(RequestBody):
    """Connections to rename, 100 at the most."""

    renamings: list[Renaming] = Field(max_length=naming.MOST_PROPOSED)


@dataclass(frozen=True, kw_only=True)
class RenamedOut:
    """What became of a connection that was to be renamed. ``problem`` says why it was not (empty:
    it was).
    """

    ref: str
    became: str
    problem: str


@router.get("/name-proposals", response=NameProposals)
def proposals(request: HttpRequest, after: str = "") -> NameProposals:
    """Names without their environment, for connections whose names say it; after a reference."""
    guard.need(request, "look")
    page = naming.proposals(after[:200])
    counted = dict(
        Connection.objects.filter(ref__in=[proposal.reference for proposal in page.proposals])
        .annotate(workloads=Count("uses"))
        .values_list("ref", "workloads")
    )
    return NameProposals(
        items=[
            NameProposal(
                ref=proposal.reference,
                name=proposal.joined,
                becomes=proposal.becomes,
                obstacle=proposal.obstacle,
                workloads=counted.get(proposal.reference, 0),
            )
            for proposal in page.proposals
        ],
        following=page.following,
    )


@router.post("/renamings", response=list[RenamedOut])
def rename_all(request: HttpRequest, body: Renamings) -> list[RenamedOut]:
    """Rename connections, each by itself: what became of each."""
    by = guard.need(request, "change")
    wanted = [(renaming.ref, renaming.name.strip()) for renaming in body.renamings]
    return [
        RenamedOut(ref=renamed.ref, became=renamed.became, problem=renamed.problem)
        for renamed in naming.rename_all(by, wanted)
    ]


@router.post("/connections/{ref:ref}/names", response=ConnectionOut)
def rename(request: HttpRequest, ref: str, body: NameIn) -> ConnectionOut:
    """Give a connection another name. Draws by the old one work until nobody has used it for 30
    days.
    """
    by = guard.need(request, "change")
    return full(find_connection(naming.rename(by, find_connection(ref), body.name.strip()).ref))


@router.delete("/connections/{ref:ref}/names/{name}", response=ConnectionOut)
def end_former(request: HttpRequest, ref: str, name: str) -> ConnectionOut:
    """End a former name at once: draws by it are refused from now on."""
    by = guard.need(request, "change")
    naming.end_former(by, find_connection(ref), name)
    return full(find_connection(ref))


_METHODS = ["GET", "POST", "PUT", "PATCH", "DELETE"]


@unknown.api_operation(_METHODS, "/connections/{path:rest}", include_in_schema=False)
def no_such_address(request: HttpRequest, rest: str) -> NoReturn:
    """Say which references a connection has that is named without its environment."""
    guard.need(request, "look")
    problem = naming.no_connection(rest.partition("/")[0])
    if "candidates" in problem.extra:
        raise problem
    raise Problem(
        404,
        "There is no such address.",
        "Look whether it is written in full.",
        code="address-not-found",
    )
