"""Fixtures that several kinds of tests share."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator

import pytest
from hypothesis import settings

from tests.harness import StandIns
from tests.reruns import Reruns

# The examples are the same in every run, so that more of them find nothing more the next time; a
# long proof looks at more.
settings.register_profile(
    "steady",
    deadline=None,
    derandomize=True,
    max_examples=100 if os.environ.get("NEATLATCH_PROVE") else 60,
)
# bin/test --quick: a look, before the whole.
settings.register_profile("quick", parent=settings.get_profile("steady"), max_examples=15)
settings.load_profile("quick" if os.environ.get("NEATLATCH_TEST_QUICK") else "steady")


def pytest_configure(config: pytest.Config) -> None:
    """A failed test of a folder that may is run once more, and named."""
    config.pluginmanager.register(Reruns(), "reruns")


def pytest_unconfigure(config: pytest.Config) -> None:
    """Leave nothing behind: the tests' home may lie in memory."""
    if (
        (home := os.environ.get("NEATLATCH_TEST_HOME", ""))
        .rpartition("/")[2]
        .startswith("neatlatch-test-")
    ):
        shutil.rmtree(home, ignore_errors=True)


@pytest.fixture(scope="session")
def stand_ins() -> Iterator[StandIns]:
    """The stand-ins, running; their certificate authority is the one that the tests' settings
    trust.
    """
    from tests.settings import HOME_OF_TESTS

    found = StandIns(HOME_OF_TESTS / "standins")
    yield found
    found.stop()


@pytest.fixture(autouse=True)
def no_faults(request: pytest.FixtureRequest) -> Iterator[None]:
    """Faults switched on by a test do not last beyond it."""
    yield
    if "stand_ins" in request.fixturenames:
        request.getfixturevalue("stand_ins").mend()
