"""An object of the inventory in plain values, as a file has it."""

from __future__ import annotations

from typing import Any

PlainFields = dict[str, Any]
