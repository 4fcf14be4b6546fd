"""Files of settings (java.util.Properties)."""

from __future__ import annotations

from typing import Any

from ..intake import properties
from .op import Inputs, Op, text


def _parse(inputs: Inputs) -> dict[str, Any]:
    try:
        return {"properties": properties.parse(text(inputs, "text"))}
    except properties.BadProperties as error:
        return {"error": str(error)}


OPS = (Op("parse_properties", "text", "Java SE API, java.util.Properties.load", _parse),)
