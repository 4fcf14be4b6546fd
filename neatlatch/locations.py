"""Where Neat Latch's own files are: in a checkout, or installed from its package."""

from __future__ import annotations

import os
from pathlib import Path

PACKAGE = Path(__file__).resolve().parent
_CHECKOUT = PACKAGE.parent
_IS_CHECKOUT = (_CHECKOUT / "pyproject.toml").is_file()


def front_end() -> Path:
    """The folder of the built front end."""
    return _CHECKOUT / "web" / "dist" if _IS_CHECKOUT else PACKAGE / "front_end"


def data_folder() -> Path:
    """The folder below which what is kept lies where nothing else is said: ``var`` of a checkout,
    else ``neatlatch`` in the user's data folder (XDG Base Directory Specification 0.8).
    """
    if _IS_CHECKOUT:
        return _CHECKOUT / "var"
    told = os.environ.get("XDG_DATA_HOME", "")
    # A relative path is to be taken as invalid (the same, "Basics").
    base = Path(told) if os.path.isabs(told) else Path.home() / ".local" / "share"
    return base / "neatlatch"


def default_home() -> Path:
    """The folder of the database and the key files where nothing else is said."""
    return data_folder() / "desk"
