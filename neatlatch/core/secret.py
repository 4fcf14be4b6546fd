"""A secret that prints as ``•••``."""

from __future__ import annotations


class Secret:
    """A value that must not be shown by accident: in a log, an error, a repr or an f-string."""

    __slots__ = ("_value",)

    def __init__(self, value: str) -> None:
        self._value = value

    def reveal(self) -> str:
        """The value itself."""
        return self._value

    def __repr__(self) -> str:
        return "•••"

    __str__ = __repr__

    def __eq__(self, other: object) -> bool:
        raise TypeError("secrets are compared by their keyed fingerprints")

    __hash__ = None  # type: ignore[assignment]

    def __reduce__(self) -> str | tuple[object, ...]:
        raise TypeError("a secret is not pickled")

    def __bool__(self) -> bool:
        return bool(self._value)


def hint(value: str) -> str:
    """The last four characters of a secret long enough to spare them, as ``…k7Qd``; otherwise
    nothing.
    """
    return f"…{value[-4:]}" if len(value) >= 16 else "…"
