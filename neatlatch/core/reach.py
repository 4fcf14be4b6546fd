"""How far rights reach: environments and applications that somebody, or a token, is held to."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True)
class Place:
    """Where a thing is: the keys of its environment and its application; empty: of none, or of no
    single one.
    """

    environment: str = ""
    application: str = ""


@dataclass(frozen=True)
class Reach:
    """The keys of the environments and applications that rights hold for; ``None``: for all."""

    environments: frozenset[str] | None = None
    applications: frozenset[str] | None = None

    @property
    def is_everywhere(self) -> bool:
        """Whether it holds for everything, also for what is of no single place."""
        return self.environments is None and self.applications is None

    def has_environment(self, key: str) -> bool:
        """Whether it holds in an environment."""
        return self.environments is None or key in self.environments

    def has_application(self, key: str) -> bool:
        """Whether it holds for an application."""
        return self.applications is None or key in self.applications

    def covers(self, places: Iterable[Place]) -> bool:
        """Whether it holds for a thing that is in all of these places. What is in none is out of
        the reach of anybody who is held to some.
        """
        found = list(places)
        return self.is_everywhere or (
            bool(found)
            and all(
                self.has_environment(place.environment) and self.has_application(place.application)
                for place in found
            )
        )

    def in_words(self) -> str:
        """What it holds for, for a sentence: “Production; Cargo manifests”, by keys."""
        named = [
            ", ".join(sorted(keys)) or f"no {what}"
            for what, keys in (
                ("environment", self.environments),
                ("application", self.applications),
            )
            if keys is not None
        ]
        return "; ".join(named) or "everything"
