"""Refusals by their code, which stays when their words change."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import pytest

from neatlatch.desk.ground.common.problems import Problem


@contextmanager
def refused_with(code: str) -> Iterator[pytest.ExceptionInfo[Problem]]:
    """Expect a problem of this code from what is done within."""
    with pytest.raises(Problem) as refused:
        yield refused
    assert refused.value.code == code, refused.value
