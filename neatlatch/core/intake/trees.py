"""JSON and YAML that anybody may have written: read in bounded time and memory, refused in words otherwise.

YAML is read by the library's safe loader; aliases are refused, because a few lines of them can stand for gigabytes.
"""

from __future__ import annotations

import json
from typing import Any

import yaml

LARGEST = 2 * 1024 * 1024
DEEPEST = 60
MOST_NODES = 200_000


class Refused(ValueError):
    """The text is not read; the message says why and, where it can, on which line; ``line`` is that line."""

    def __init__(self, says: str, line: int | None = None) -> None:
        super().__init__(says)
        self.line = line


def read_json(text: str) -> Any:
    """A JSON value (RFC 8259). Names that stand twice are refused (§4 calls them unpredictable). Raises :class:`Refused`."""
    _check_size(text)
    if _depth(text) > DEEPEST:
        raise Refused(f"It is nested deeper than {DEEPEST} levels.")
    try:
        found = json.loads(text, object_pairs_hook=_once, parse_constant=_no_constant)
    except json.JSONDecodeError as error:
        raise Refused(f"It is not JSON: {error.msg} on line {error.lineno}.") from error
    except RecursionError as error:
        raise Refused("It is nested too deep.") from error
    except ValueError as error:
        raise Refused(str(error)) from error
    return found


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) != len(pairs):
        names = [name for name, _ in pairs]
        raise Refused(f"The name “{next(one for one in names if names.count(one) > 1)}” stands twice in one object.")
    return found


def _no_constant(name: str) -> Any:
    raise Refused(f"{name} is not JSON.")


def _depth(text: str) -> int:
    """How deep brackets nest, outside of strings; counted before parsing, because the parser would recurse."""
    depth = most = 0
    inside = escaped = False
    for character in text:
        if inside:
            if escaped:
                escaped = False
            elif character == "\\":
                escaped = True
            elif character == '"':
                inside = False
        elif character == '"':
            inside = True
        elif character in "[{":
            depth += 1
            most = max(most, depth)
        elif character in "]}":
            depth -= 1
    return most


def read_yaml(text: str) -> Any:
    """A YAML document. Raises :class:`Refused` for aliases, depth, size, keys that stand twice, and what is not YAML."""
    return read_yaml_with_lines(text)[0]


Where = tuple[str | int, ...]


def read_yaml_with_lines(text: str, largest: int = LARGEST, most_nodes: int = MOST_NODES) -> tuple[Any, dict[Where, int]]:
    """A YAML document, and the line of each value by its path of keys and places. Raises as :func:`read_yaml`."""
    _check_size(text, largest)
    loader = None
    try:
        loader = _Careful(text, most_nodes)
        node = loader.get_single_node()
        lines: dict[Where, int] = {}
        _lines(node, (), lines)
        return (loader.construct_document(node) if node is not None else None), lines
    except Refused:
        raise
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        where = f" on line {mark.line + 1}" if mark else ""
        says = f"It is not YAML: {getattr(error, 'problem', None) or 'it cannot be read'}{where}."
        raise Refused(says, mark.line + 1 if mark else None) from error
    except (RecursionError, ValueError, OverflowError, TypeError) as error:
        raise Refused(f"It is not YAML that can be read: {error}.") from error
    finally:
        if loader is not None:
            loader.dispose()


def _lines(node: Any, path: Where, found: dict[Where, int]) -> None:
    if isinstance(node, yaml.MappingNode):
        for key, value in node.value:
            at = (*path, str(key.value))
            found[at] = key.start_mark.line + 1
            _lines(value, at, found)
    elif isinstance(node, yaml.SequenceNode):
        for place, value in enumerate(node.value):
            at = (*path, place)
            found[at] = value.start_mark.line + 1
            _lines(value, at, found)


class _Careful(yaml.SafeLoader):
    """The safe loader, without aliases, with limits, and with no key twice."""

    def __init__(self, text: str, most_nodes: int = MOST_NODES) -> None:
        super().__init__(text)
        self._most = most_nodes
        self._level = self._nodes = 0

    def compose_node(self, parent: Any, index: Any) -> Any:
        if self.check_event(yaml.AliasEvent):
            mark = self.peek_event().start_mark  # type: ignore[no-untyped-call]
            raise Refused(f"An alias (*) stands on line {mark.line + 1}; aliases are not read.", mark.line + 1)
        self._level += 1
        self._nodes += 1
        if self._level > DEEPEST:
            raise Refused(f"It is nested deeper than {DEEPEST} levels.")
        if self._nodes > self._most:
            raise Refused(f"It holds more than {self._most:,} values.")
        found = super().compose_node(parent, index)
        self._level -= 1
        return found

    def construct_mapping(self, node: Any, deep: bool = False) -> Any:
        seen: set[Any] = set()
        for key, _ in node.value:
            name = self.construct_object(key, deep=True)
            if isinstance(name, list | dict):
                raise Refused(f"A key on line {key.start_mark.line + 1} is not a plain value.", key.start_mark.line + 1)
            if name in seen:
                raise Refused(f"The key “{name}” stands twice, again on line {key.start_mark.line + 1}.", key.start_mark.line + 1)
            seen.add(name)
        return super().construct_mapping(node, deep)


def _check_size(text: str, largest: int = LARGEST) -> None:
    if len(text) > largest:
        raise Refused(f"It is larger than {largest // 2**20} MiB, so it was not read.")
