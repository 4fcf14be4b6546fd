"""Running a failed test once more, from a fresh start, and naming it: for tests that start programs
or a browser.

Anyone who sees ``FLAKY`` finds out why before anything is called done. The conftest of each folder
that may do so calls :func:`allow`.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import pytest_rerunfailures

_ALLOWED: set[Path] = set()


def allow(items: list[pytest.Item], folder: Path) -> None:
    """Let the tests below a folder be run once more after a failure."""
    _ALLOWED.add(folder)
    for item in items:
        if folder in item.path.parents:
            item.add_marker(pytest.mark.flaky(reruns=1))


class Reruns:
    """The plugin: starts everything anew before a second run, and names what passed only then."""

    def __init__(self) -> None:
        self._failed: dict[str, str] = {}
        self.flaky: dict[str, str] = {}

    @pytest.hookimpl(wrapper=True, tryfirst=True)
    def pytest_runtest_setup(self, item: pytest.Item) -> Iterator[None]:
        """Before a second run, end every fixture, those of the session too: desks, stand-ins,
        browser.
        """
        if getattr(item, "execution_count", 1) > 1:
            # The plugin has put their ends aside, to be run after the test that needs them last;
            # there is no public way to either.
            ends = pytest_rerunfailures.suspended_finalizers
            state = item.session._setupstate
            state.stack = {**ends, **state.stack}
            ends.clear()
            state.teardown_exact(None)
        return (yield)

    def pytest_runtest_logreport(self, report: pytest.TestReport) -> None:
        """Remember a run that failed and was repeated, and whether the repetition passed."""
        if report.outcome == "rerun":  # type: ignore[comparison-overlap]
            self._failed[report.nodeid] = str(report.longrepr)
        elif report.when == "call" and report.passed and report.nodeid in self._failed:
            self.flaky[report.nodeid] = self._failed[report.nodeid]

    def pytest_terminal_summary(self, terminalreporter: Any) -> None:
        """Why each failed the first time, and their names, which ``bin/test`` repeats in its last
        lines.
        """
        for name, why in self.flaky.items():
            terminalreporter.section(f"{name} failed the first time", "-")
            terminalreporter.write_line(why)
        for name in self.flaky:
            terminalreporter.write_line(f"FLAKY: {name}")
