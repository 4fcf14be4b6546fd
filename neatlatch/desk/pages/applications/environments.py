"""Environments of the firm."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from django.http import HttpRequest
from ninja import Router
from pydantic import Field

from neatlatch.desk.estate.applications import environments as services
from neatlatch.desk.estate.lookups import find_environment
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common.request_bodies import RequestBody

from .shapes import EnvironmentOut, environment_out

router = Router()
Look = Literal["dashed", "flat", "striped"]


@dataclass(frozen=True)
class EnvironmentDetail(EnvironmentOut):
    """An environment with what holds in it: whether rounds may do real work, whether stored secrets
    may be shown again, and whether anything is in it.
    """

    work_in_rounds: bool
    reveals: bool
    in_use: bool


class EnvironmentIn(RequestBody):
    """A new environment, the last in order."""

    key: str
    name: str
    look: Look = "flat"
    production: bool = False
    wants_service_account: bool = False


class EnvironmentChange(RequestBody):
    """What to change; absent: stays."""

    name: str | None = None
    look: Look | None = None
    production: bool | None = None
    wants_service_account: bool | None = None


class EnvironmentOrder(RequestBody):
    """The keys of all environments, in order."""

    keys: list[str] = Field(max_length=500)


@router.get("/environments", response=list[EnvironmentDetail])
def environments(request: HttpRequest) -> list[EnvironmentDetail]:
    """The environments of the firm, in order."""
    guard.need(request, "look")
    return [
        EnvironmentDetail(
            **vars(environment_out(environment)),
            work_in_rounds=environment.work_in_rounds,
            reveals=environment.reveals,
            in_use=environment.in_use,  # type: ignore[attr-defined]
        )
        for environment in services.all_in_order()
    ]


@router.post("/environments", response={201: EnvironmentOut})
def add(request: HttpRequest, body: EnvironmentIn) -> tuple[int, EnvironmentOut]:
    """Add an environment. Its key is fixed from then on: references of connections begin with
    it.
    """
    by = guard.need(request, "change")
    fields = body.dict(exclude={"key"})
    return 201, environment_out(services.add(by, body.key.strip(), fields))


@router.put("/environments", response=list[EnvironmentDetail])
def put_in_order(request: HttpRequest, body: EnvironmentOrder) -> list[EnvironmentDetail]:
    """Put the environments in another order."""
    services.put_in_order(guard.need(request, "change"), body.keys)
    return environments(request)


@router.patch("/environments/{environment}", response=EnvironmentOut)
def change(request: HttpRequest, environment: str, body: EnvironmentChange) -> EnvironmentOut:
    """Change an environment."""
    by = guard.need(request, "change")
    return environment_out(services.change(by, find_environment(environment), body.dict()))


@router.delete("/environments/{environment}", response={204: None})
def remove(request: HttpRequest, environment: str) -> tuple[int, None]:
    """Remove an environment that nothing is in."""
    services.remove(guard.need(request, "change"), find_environment(environment))
    return 204, None
