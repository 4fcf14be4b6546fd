"""The child process of :mod:`neatlatch.desk.ground.common.heavy`: does one piece of work after
another, each within its own limits.

It knows no Django, so that it starts quickly and has nothing of the desk's in its memory: no key
file, no database, no session.
"""

from __future__ import annotations

import importlib
import os
import pickle
import resource
from typing import IO

# Seconds of processor time for one piece of work, and octets of address space for all of the
# process meanwhile, unless more is said.
SECONDS, MEMORY = 5, 512 * 1024 * 1024
# Octets of address space; what a library has taken does not all come back, so a process that still
# has more is replaced. Otherwise it would depend on the work before whether there is room for the
# next.
_WORN = MEMORY // 2
_LENGTH = 8


class TooLarge(Exception):
    """It needs more memory than it may have."""


def send(stream: IO[bytes], what: object) -> None:
    """Write one message: its length, then its pickle."""
    body = pickle.dumps(what)
    stream.write(len(body).to_bytes(_LENGTH, "big") + body)
    stream.flush()


def read(stream: IO[bytes]) -> bytes | None:
    """The next message's pickle; ``None`` at the end."""
    head = stream.read(_LENGTH)
    return stream.read(int.from_bytes(head, "big")) if len(head) == _LENGTH else None


def _do(module: str, name: str, arguments: tuple[object, ...]) -> tuple[bool, object]:
    try:
        return True, getattr(importlib.import_module(module), name)(*arguments)
    except MemoryError:
        return False, TooLarge()
    except RecursionError:
        return False, TooLarge()
    except Exception as error:  # the caller's to handle, as if it had been raised there
        try:
            pickle.loads(pickle.dumps(error))
        except MemoryError:
            return False, TooLarge()
        except Exception:
            return False, RuntimeError(f"{type(error).__name__}: {error}")
        return False, error


def _address_space() -> int:
    """Octets of address space that the process has now (proc(5), ``statm``)."""
    with open("/proc/self/statm", encoding="ascii") as told:
        return int(told.read().split()[0]) * resource.getpagesize()


def main() -> None:
    """Work until the desk closes its end."""
    asked_on, told_on = os.fdopen(os.dup(0), "rb"), os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what a library prints is no answer
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    while (asked := read(asked_on)) is not None:
        used = resource.getrusage(resource.RUSAGE_SELF)
        # The kernel ends the process: no Python runs while a library works on.
        module, name, arguments, seconds, memory = pickle.loads(asked)  # the desk's own words
        resource.setrlimit(resource.RLIMIT_AS, (memory, resource.RLIM_INFINITY))
        limit = int(used.ru_utime + used.ru_stime) + 1 + seconds
        resource.setrlimit(resource.RLIMIT_CPU, (limit, resource.getrlimit(resource.RLIMIT_CPU)[1]))
        answer = _do(module, name, arguments)
        worn = _address_space() > _WORN
        try:
            send(told_on, (*answer, worn))
        except MemoryError:
            send(told_on, (False, TooLarge(), True))
        except (pickle.PicklingError, TypeError, AttributeError) as error:
            send(
                told_on,
                (False, RuntimeError(f"the answer cannot be told: {type(error).__name__}"), worn),
            )
