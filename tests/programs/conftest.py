"""Tests of whole programs, started and killed."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from tests import reruns
from tests.harness import World


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """A test of this folder that fails is run once more, from a fresh start."""
    reruns.allow(items, Path(__file__).parent)


@pytest.fixture(scope="session")
def prepared() -> World:
    """A world that was loaded, and has ended, to be copied."""
    from tests.settings import HOME_OF_TESTS

    folder = HOME_OF_TESTS / "prepared"
    shutil.rmtree(folder, ignore_errors=True)  # of a first run that failed
    found = World(folder, datetime.now(UTC).replace(microsecond=0))
    found.load()
    found.end()
    return found


@pytest.fixture(scope="module")
def world(prepared: World, request: pytest.FixtureRequest) -> Iterator[World]:
    """A copy of its own for each module, with its desk not started yet.

    A module may say how often it makes rounds: ``ROUND_MINUTES``.
    """
    found = prepared.copy(
        prepared.folder.with_name(Path(request.path).stem),
        getattr(request.module, "ROUND_MINUTES", 60),
    )
    yield found
    found.end()
