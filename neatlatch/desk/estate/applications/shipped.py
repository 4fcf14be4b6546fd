"""The profiles that come with Neat Latch."""

from __future__ import annotations

from functools import lru_cache
from importlib.resources import files
from typing import Any

import yaml


@lru_cache(maxsize=1)
def shipped() -> dict[str, dict[str, Any]]:
    """All of them by their keys: ``name``, ``purpose``, and the profile as plain values in
    ``profile``.
    """
    found = {}
    for file in sorted(files("neatlatch.profiles").iterdir(), key=lambda path: path.name):
        if file.name.endswith(".yaml"):
            told = yaml.safe_load(file.read_text(encoding="utf-8"))
            found[file.name.removesuffix(".yaml")] = {
                "name": told.pop("name"),
                "purpose": told.pop("purpose", ""),
                "profile": told,
            }
    return found
