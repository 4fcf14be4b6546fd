"""Tests of whole programs, started and killed."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests import reruns


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """A test of this folder that fails is run once more, from a fresh start."""
    reruns.allow(items, Path(__file__).parent)
