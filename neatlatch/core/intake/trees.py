"""JSON and YAML that anybody may have written: read in bounded time and memory, refused in words
otherwise.

YAML is read by the library's safe loader; aliases are refused, because a few lines of them can
stand for gigabytes.
"""

from __future__ import annotations

import json
import re
from typing import Any

import yaml

LARGEST = 2 * 1024 * 1024
DEEPEST = 60
MOST_NODES = 200_000


class Refused(ValueError):
    """The text is not read; the message says why and, where it can, on which line; ``line`` is that
    line.
    """

    def __init__(self, says: str, line: int | None = None) -> None:
        super().__init__(says)
        self.line = line


def read_json(text: str) -> Any:
    """A JSON value (RFC 8259).

    Names that stand twice are refused (§4 calls them unpredictable). Raises :class:`Refused`.
    """
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
        raise Refused(
            f"The name “{next(one for one in names if names.count(one) > 1)}” stands twice "
            f"in one object."
        )
    return found


def _no_constant(name: str) -> Any:
    raise Refused(f"{name} is not JSON.")


def _depth(text: str) -> int:
    """How deep brackets nest, outside of strings; counted before parsing, because the parser would
    recurse.
    """
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
    """A YAML document.

    Raises :class:`Refused` for aliases, depth, size, keys that stand twice, and what is not YAML.
    """
    return read_yaml_with_lines(text)[0]


Where = tuple[str | int, ...]


def read_yaml_with_lines(
    text: str, largest: int = LARGEST, most_nodes: int = MOST_NODES
) -> tuple[Any, dict[Where, int]]:
    """A YAML document, and the line of each value by its path of keys and places.

    Raises as :func:`read_yaml`.
    """
    _check_size(text, largest)
    loader = None
    try:
        if _may_nest(text) > _SAFE_DEPTH:
            _check_depth(text)
        loader = _Loader(text)
        node = loader.get_single_node()
        reader = _Reader(text, loader, most_nodes)
        return (reader.value(node, (), 1) if node is not None else None), reader.lines
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


# The composer is the library's, in C, and goes down a level of its stack for each of the text; so
# deep it certainly may.
_SAFE_DEPTH = 500
_STARTS = re.compile(r"^[ \t\-?:]+", re.MULTILINE)
_BRACKETS = re.compile(r"[\[\]{}]")


def _may_nest(text: str) -> int:
    """How deep a text may nest at the most, by its indentation and its brackets, wherever they
    stand.
    """
    deepest = max((len(one) for one in _STARTS.findall(text)), default=0)
    depth = most = 0
    for one in _BRACKETS.finditer(text):
        depth = depth + 1 if one[0] in "[{" else max(0, depth - 1)
        most = max(most, depth)
    return deepest + most


def _check_depth(text: str) -> None:
    """Look how deep it nests without going down with it. Raises :class:`Refused`."""
    level = 0
    for event in yaml.parse(text, Loader=_Loader):
        if isinstance(event, yaml.CollectionStartEvent):
            level += 1
            if level > DEEPEST:
                raise _too_deep()
        elif isinstance(event, yaml.CollectionEndEvent):
            level -= 1


def _too_deep() -> Refused:
    return Refused(f"It is nested deeper than {DEEPEST} levels.")


class _Loader(getattr(yaml, "CSafeLoader", yaml.SafeLoader)):  # type: ignore[misc]
    """The library's safe loader, with no key twice in what it constructs itself."""

    def construct_mapping(self, node: Any, deep: bool = False) -> Any:
        """A mapping of a kind of its own, like a set."""
        seen: set[Any] = set()
        for key, _ in node.value:
            _once_in(seen, _plain_key(self.construct_object(key, deep=True), key), key)
        return super().construct_mapping(node, deep)


def _plain_key(name: Any, key: Any) -> Any:
    if isinstance(name, list | dict):
        line = key.start_mark.line + 1
        raise Refused(f"A key on line {line} is not a plain value.", line)
    return name


def _once_in(seen: set[Any], name: Any, key: Any) -> None:
    if name in seen:
        line = key.start_mark.line + 1
        raise Refused(f"The key “{name}” stands twice, again on line {line}.", line)
    seen.add(name)


_TAG = "tag:yaml.org,2002:"
_MAP, _SEQUENCE, _TEXT, _MERGE = (f"{_TAG}{name}" for name in ("map", "seq", "str", "merge"))


class _Reader:
    """Makes values of nodes, and looks at each node once: aliases, depth, how many there are, keys
    that stand twice.
    """

    def __init__(self, text: str, loader: Any, most: int) -> None:
        self._text, self._loader, self._most = text, loader, most
        self._seen: set[int] = set()
        self.lines: dict[Where, int] = {}

    def value(self, node: Any, path: Where, level: int) -> Any:
        """A node's value. Raises :class:`Refused`."""
        self._look(node, level)
        if node.tag == _TEXT and isinstance(node, yaml.ScalarNode):
            return node.value
        if node.tag == _SEQUENCE and isinstance(node, yaml.SequenceNode):
            found = []
            for place, one in enumerate(node.value):
                at = (*path, place)
                self.lines[at] = one.start_mark.line + 1
                found.append(self.value(one, at, level + 1))
            return found
        if node.tag == _MAP and isinstance(node, yaml.MappingNode):
            return self._mapping(node, path, level)
        self._look_below(node, level)
        return self._loader.construct_object(node, deep=True)

    def _mapping(self, node: Any, path: Where, level: int) -> dict[Any, Any]:
        found: dict[Any, Any] = {}
        seen: set[Any] = set()
        for key, one in node.value:
            if key.tag == _MERGE:
                line = key.start_mark.line + 1
                raise Refused(f"A merge (<<) stands on line {line}; merges are not read.", line)
            name = _plain_key(self.value(key, (), level + 1), key)
            _once_in(seen, name, key)
            at = (*path, str(key.value))
            self.lines[at] = key.start_mark.line + 1
            found[name] = self.value(one, at, level + 1)
        return found

    def _look(self, node: Any, level: int) -> None:
        if level > DEEPEST:
            raise _too_deep()
        if id(node) in self._seen:
            raise self._alias()
        self._seen.add(id(node))
        if len(self._seen) > self._most:
            raise Refused(f"It holds more than {self._most:,} values.")

    def _look_below(self, node: Any, level: int) -> None:
        """Look at all that stands in a node which the library makes a value of."""
        if isinstance(node, yaml.ScalarNode):
            return
        for one in node.value:
            for each in one if isinstance(one, tuple) else (one,):
                self._look(each, level + 1)
                self._look_below(each, level + 1)

    def _alias(self) -> Refused:
        alias = next(
            (
                one
                for one in yaml.parse(self._text, Loader=_Loader)
                if isinstance(one, yaml.AliasEvent)
            ),
            None,
        )
        line = (
            alias.start_mark.line + 1 if alias is not None and alias.start_mark is not None else 1
        )
        return Refused(f"An alias (*) stands on line {line}; aliases are not read.", line)


def _check_size(text: str, largest: int = LARGEST) -> None:
    if len(text) > largest:
        raise Refused(f"It is larger than {largest // 2**20} MiB, so it was not read.")
