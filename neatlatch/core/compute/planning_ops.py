"""Scopes of least weight, and work laid out evenly (DOMAIN §4, §7)."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

from .. import horizon, trim
from .op import BadInput, Inputs, Op, integer, number, obj, text, texts


def _minimum_scopes(inputs: Inputs) -> dict[str, Any]:
    scopes = {}
    for name, told in obj(inputs, "scopes").items():
        if not isinstance(told, dict):
            raise BadInput(f"“scopes.{name}” must be an object with “weight” and “implies”")
        weight = Fraction(str(number(told, "weight")))
        if weight < 0:
            raise BadInput(f"the weight of {name} is below 0")
        scopes[name] = trim.WeighedScope(
            weight, texts(told, "implies") if "implies" in told else ()
        )
    operations = []
    for told in _objects(inputs, "operations"):
        alternatives = told.get("alternatives")
        if not isinstance(alternatives, list) or not all(
            isinstance(alternative, list) and all(isinstance(s, str) for s in alternative)
            for alternative in alternatives
        ):
            raise BadInput("“alternatives” must be a list of lists of scopes")
        operations.append(
            (text(told, "name"), tuple(frozenset(alternative) for alternative in alternatives))
        )
    found = trim.smallest(scopes, operations)
    if found.scopes is None:
        return {
            "feasible": False,
            "minimum_weight": None,
            "unsatisfiable_operations": list(found.impossible),
        }
    least: float | int = float(found.weight) if found.weight.denominator > 1 else int(found.weight)
    return {"feasible": True, "minimum_weight": least, "selection": sorted(found.scopes)}


def _minimise_peak(inputs: Inputs) -> dict[str, Any]:
    jobs = [
        horizon.Job(text(job, "id"), integer(job, "release"), integer(job, "due"))
        for job in _objects(inputs, "jobs")
    ]
    days = inputs.get("working_days")
    if not isinstance(days, list) or not all(
        isinstance(day, int) and not isinstance(day, bool) for day in days
    ):
        raise BadInput("“working_days” must be a list of whole numbers")
    found = horizon.spread(jobs, days, integer(inputs, "capacity_per_day"))
    if found.overfull is not None:
        told = found.overfull
        span = {
            "from_day": told.from_day,
            "to_day": told.to_day,
            "jobs": told.jobs,
            "room": told.room,
        }
        return {"feasible": False, "minimum_peak": None, "overfull_interval": span}
    return {
        "feasible": True,
        "minimum_peak": found.peak,
        "one_optimal_assignment": list(found.days),
    }


def _objects(inputs: Inputs, key: str) -> list[dict[str, Any]]:
    found = inputs.get(key)
    if not isinstance(found, list) or not all(isinstance(item, dict) for item in found):
        raise BadInput(f"“{key}” must be a list of objects")
    return found


OPS = (
    Op(
        "minimum_scopes",
        "scopes: {name: {weight, implies: [name]}}, operations: [{name, alternatives: [[scope]]}]",
        "OpenAPI 3.1.0 §4.8.30 (alternatives); least weight, exact",
        _minimum_scopes,
    ),
    Op(
        "minimise_peak",
        "jobs: [{id, release, due}], working_days: [day], capacity_per_day",
        "Jackson 1955 (earliest due first), Hall 1935 (overfull spans)",
        _minimise_peak,
    ),
)
