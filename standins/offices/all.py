"""The offices of the scenario."""

from __future__ import annotations

from pathlib import Path

from ..house import House
from ..oauth.faults import Faults
from . import proofs
from .office import Office, Style

_READ, _WRITE = ("GET",), ("PUT", "DELETE")
_TWO = {"reader": _READ, "clerk": _WRITE}
STYLES: tuple[tuple[Style, proofs.Proof], ...] = (
    (
        Style(
            "fares",
            "Fare kiosks",
            "#7a1f4d",
            "key",
            "fares",
            ("reader", "clerk"),
            _TWO,
            ("price",),
            second_code=True,
            scheme={"type": "apiKey", "in": "header", "name": "X-Kiosk-Key"},
        ),
        proofs.header("X-Kiosk-Key"),
    ),
    (
        Style(
            "messages",
            "Passenger messages",
            "#1f5c7a",
            "key",
            "messages",
            ("reader", "sender"),
            {"reader": _READ, "sender": _WRITE},
            ("text",),
            life=365,
            scheme={"type": "apiKey", "in": "query", "name": "key"},
        ),
        proofs.query("key"),
    ),
    (
        Style(
            "tides",
            "Tide tables",
            "#33507a",
            "oauth1",
            "tables",
            ("read", "read-and-write"),
            {"read": _READ, "read-and-write": _WRITE},
            ("port",),
            roles_word="permission",
            life=0,
            scheme={"type": "http", "scheme": "oauth"},
        ),
        proofs.oauth1,
    ),
    (
        Style(
            "tickets",
            "Repair tickets",
            "#5c4a1f",
            "password",
            "tickets",
            ("viewer", "agent", "manager"),
            {"viewer": _READ, "agent": _WRITE, "manager": ()},
            ("title", "vessel"),
            root="/workshop",
            life=0,
            calls=True,
            scheme={"type": "http", "scheme": "basic"},
        ),
        proofs.basic,
    ),
    (
        Style(
            "lost",
            "Lost property",
            "#3d5c2a",
            "token",
            "items",
            ("reader", "clerk"),
            _TWO,
            ("what",),
            life=0,
            scheme={"type": "http", "scheme": "bearer"},
        ),
        proofs.bearer,
    ),
    (
        Style(
            "crew",
            "Crew roster",
            "#4a2a5c",
            "certificate",
            "shifts",
            ("reader", "planner"),
            {"reader": _READ, "planner": _WRITE},
            ("vessel",),
            scheme={"type": "mutualTLS"},
        ),
        proofs.certificate,
    ),
    (
        Style(
            "positions",
            "Vessel positions",
            "#1f6b5c",
            "pair",
            "topics",
            ("listener", "sender"),
            {"listener": _READ, "sender": _WRITE},
            life=365,
        ),
        proofs.basic,
    ),
)


def offices(folder: Path, faults: dict[str, Faults], house: House) -> dict[str, Office]:
    """All of them, by their keys; each with faults of its own."""
    found = {}
    for style, proof in STYLES:
        faults[style.key] = Faults()
        found[style.key] = Office(style, folder, proof, faults[style.key], house)
    return found
