"""Which process holds a lease, so that one whose holder was killed can be taken over at once and
not only when it runs out.
"""

from __future__ import annotations

import os
import secrets
import socket
from pathlib import Path


def _begun(pid: int) -> str | None:
    """When a process of this machine began, in clock ticks since the machine's start; ``None``:
    there is no such process (Linux only).
    """
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return None


def sign() -> str:
    """A name for one lease of this process: machine, process, when it began, and
    something random.
    """
    pid = os.getpid()
    return f"{socket.gethostname()[:20]}/{pid}/{_begun(pid) or ''}/{secrets.token_hex(4)}"


def is_gone(signed: str) -> bool:
    """Whether the process that signed is certainly gone.

    Unknown, or another machine's: not certain, so no.
    """
    return _lives(signed) is False


def is_alive(signed: str) -> bool:
    """Whether the process that signed certainly still runs.

    Unknown, or another machine's: not certain, so no.
    """
    return _lives(signed) is True


def _lives(signed: str) -> bool | None:
    """Whether the process that signed runs; ``None``: it cannot be known here."""
    host, _, rest = signed.partition("/")
    pid, begun = (rest.split("/") + ["", ""])[:2]
    if (
        host != socket.gethostname()[:20]
        or not pid.isdigit()
        or not begun
        or _begun(os.getpid()) is None
    ):
        return None
    return _begun(int(pid)) == begun
