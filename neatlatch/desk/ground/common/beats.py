"""When each thing that the worker does on schedule was last done: a small file for each in the
folder of the database, so that any process can tell, and none of it weighs on the database.
"""

from __future__ import annotations

import json
import os
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path

from django.conf import settings

_FOLDER = "beats"


@dataclass(frozen=True)
class Beat:
    """``name`` was begun at ``at``, and is every ``every`` seconds; ``goes_on``: it has not ended;
    ``failed`` is what kind of fault it ended with, empty: none."""

    name: str
    at: datetime
    every: float
    goes_on: bool = False
    failed: str = ""


def record(beat: Beat) -> None:
    """Keep a beat in place of the last one of its name. A folder that cannot be written to stops
    nobody."""
    folder = Path(settings.HOME) / _FOLDER
    told = asdict(beat) | {"at": beat.at.isoformat()}
    half = folder / f"{beat.name}.{os.getpid()}.half"
    try:
        folder.mkdir(mode=0o700, exist_ok=True)
        half.write_text(json.dumps(told))
        half.replace(folder / f"{beat.name}.json")
    except OSError:
        return


def last() -> list[Beat]:
    """The last beat of each name, by name; what cannot be read is left out."""
    found = []
    for file in sorted((Path(settings.HOME) / _FOLDER).glob("*.json")):
        try:
            told = json.loads(file.read_text())
            found.append(Beat(**told | {"at": datetime.fromisoformat(told["at"])}))
        except (OSError, ValueError, TypeError, KeyError):
            continue
    return found
