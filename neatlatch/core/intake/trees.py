"""JSON and YAML that anybody may have written: read in bounded time and memory, refused in words
otherwise.

YAML is read by the library's safe loader; aliases are refused, because a few lines of them can
stand for gigabytes.
"""

from __future__ import annotations

import json
from collections.abc import Container
from typing import Any

import yaml
from yaml.composer import ComposerError

LARGEST = 2 * 1024 * 1024
DEEPEST = 60
MOST_NODES = 200_000


class TreeRefused(ValueError):
    """The text is not read; the message says why and, where it can, on which line; ``line`` is that
    line.
    """

    def __init__(self, says: str, line: int | None = None) -> None:
        super().__init__(says)
        self.line = line


def read_json(text: str) -> Any:
    """A JSON value (RFC 8259).

    Names that stand twice are refused (§4 calls them unpredictable). Raises :class:`TreeRefused`.
    """
    _check_size(text)
    if _depth(text) > DEEPEST:
        raise TreeRefused(f"It is nested deeper than {DEEPEST} levels.")
    try:
        found = json.loads(text, object_pairs_hook=_without_duplicates, parse_constant=_no_constant)
    except json.JSONDecodeError as error:
        raise TreeRefused(f"It is not JSON: {error.msg} on line {error.lineno}.") from error
    except RecursionError as error:
        raise TreeRefused("It is nested too deep.") from error
    except ValueError as error:
        raise TreeRefused(str(error)) from error
    return found


def _without_duplicates(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) != len(pairs):
        names = [name for name, _ in pairs]
        raise TreeRefused(
            f"The name “{next(name for name in names if names.count(name) > 1)}” occurs twice "
            f"in one object."
        )
    return found


def _no_constant(name: str) -> Any:
    raise TreeRefused(f"{name} is not JSON.")


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

    Raises :class:`TreeRefused` for aliases, depth, size, repeated keys, and what is not YAML.
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
        loader = _Loader(text)
        reader = _Reader(loader, most_nodes)
        return reader.document(), reader.lines
    except TreeRefused:
        raise
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        where = f" on line {mark.line + 1}" if mark else ""
        says = f"It is not YAML: {getattr(error, 'problem', None) or 'it cannot be read'}{where}."
        raise TreeRefused(says, mark.line + 1 if mark else None) from error
    except (RecursionError, ValueError, OverflowError, TypeError) as error:
        raise TreeRefused(f"It is not YAML that can be read: {error}.") from error
    finally:
        if loader is not None:
            loader.dispose()


class _Loader(getattr(yaml, "CSafeLoader", yaml.SafeLoader)):  # type: ignore[misc]
    """The library's safe loader, with no key twice in what it constructs itself."""

    def construct_mapping(self, node: Any, deep: bool = False) -> Any:
        """A mapping of a kind of its own, like a set."""
        seen: set[Any] = set()
        for key, _ in node.value:
            name = _plain_key(self.construct_object(key, deep=True), key)
            _refuse_duplicate(seen, name, key)
            seen.add(name)
        return super().construct_mapping(node, deep)


def _plain_key(name: Any, key: Any) -> Any:
    if isinstance(name, list | dict):
        line = key.start_mark.line + 1
        raise TreeRefused(f"A key on line {line} is not a plain value.", line)
    return name


def _refuse_duplicate(seen: Container[Any], name: Any, key: Any) -> None:
    if name in seen:
        line = key.start_mark.line + 1
        raise TreeRefused(f"The key “{name}” occurs twice, again on line {line}.", line)


_TAG = "tag:yaml.org,2002:"
_MAP, _SEQUENCE, _TEXT, _MERGE = (f"{_TAG}{name}" for name in ("map", "seq", "str", "merge"))


class _Reader:
    """Makes values of the library's events as they come, and looks at each once: aliases, depth,
    how many there are, keys that stand twice. Of nodes there would be ten times as much to keep.
    """

    def __init__(self, loader: Any, most: int) -> None:
        self._loader, self._most = loader, most
        self._next = loader.get_event
        self._count = 0
        self.lines: dict[Where, int] = {}

    def document(self) -> Any:
        """The one document's value; ``None``: there is none. Raises :class:`TreeRefused`."""
        self._next()  # the stream begins
        begun = self._next()
        if isinstance(begun, yaml.StreamEndEvent):
            return None
        value = self._value(self._next(), (), 1)
        self._next()  # the document ends
        after = self._next()
        if not isinstance(after, yaml.StreamEndEvent):
            raise ComposerError(
                "expected a single document in the stream",
                begun.start_mark,
                "but found another document",
                after.start_mark,
            )
        return value

    def _value(self, event: Any, path: Where, level: int) -> Any:
        self._look(event, level)
        kind = type(event)
        if kind is yaml.ScalarEvent:
            return self._plain(event, self._tag(event))
        if kind is yaml.SequenceStartEvent and event.tag in (None, "!", _SEQUENCE):
            return self._sequence(path, level)
        if kind is yaml.MappingStartEvent and event.tag in (None, "!", _MAP):
            return self._mapping(path, level)
        return self._loader.construct_object(self._node(event, level), deep=True)

    def _sequence(self, path: Where, level: int) -> list[Any]:
        found: list[Any] = []
        while type(event := self._next()) is not yaml.SequenceEndEvent:
            at = (*path, len(found))
            self.lines[at] = event.start_mark.line + 1
            found.append(self._value(event, at, level + 1))
        return found

    def _mapping(self, path: Where, level: int) -> dict[Any, Any]:
        found: dict[Any, Any] = {}
        while type(key := self._next()) is not yaml.MappingEndEvent:
            name, written = self._key(key, level + 1)
            _refuse_duplicate(found, name, key)
            at = (*path, written)
            self.lines[at] = key.start_mark.line + 1
            found[name] = self._value(self._next(), at, level + 1)
        return found

    def _key(self, key: Any, level: int) -> tuple[Any, str]:
        """A key's value, and as it is written."""
        kind = type(key)
        if kind is not yaml.ScalarEvent:
            return _plain_key(self._value(key, (), level), key), ""
        self._look(key, level)
        tag = self._tag(key)
        if tag == _MERGE:
            line = key.start_mark.line + 1
            raise TreeRefused(f"There is a merge (<<) on line {line}; merges are not read.", line)
        return self._plain(key, tag), key.value

    def _tag(self, event: Any) -> str:
        if event.tag is None or event.tag == "!":
            return str(self._loader.resolve(yaml.ScalarNode, event.value, event.implicit))
        return str(event.tag)

    def _plain(self, event: Any, tag: str) -> Any:
        if tag == _TEXT:
            return event.value
        node = yaml.ScalarNode(tag, event.value, event.start_mark, event.end_mark)
        value = self._loader.construct_object(node, deep=True)
        self._loader.constructed_objects.clear()  # it keeps each for aliases, which there are none
        return value

    def _node(self, event: Any, level: int) -> Any:
        """What the library makes a value of itself, by its tag."""
        kind = type(event)
        if kind is yaml.ScalarEvent:
            return yaml.ScalarNode(
                self._tag(event), event.value, event.start_mark, event.end_mark, event.style
            )
        found: list[Any] = []
        if kind is yaml.SequenceStartEvent:
            while type(one := self._next()) is not yaml.SequenceEndEvent:
                found.append(self._below(one, level))
            tag = event.tag if event.tag not in (None, "!") else _SEQUENCE
            return yaml.SequenceNode(tag, found, event.start_mark, event.end_mark)
        while type(one := self._next()) is not yaml.MappingEndEvent:
            found.append((self._below(one, level), self._below(self._next(), level)))
        tag = event.tag if event.tag not in (None, "!") else _MAP
        return yaml.MappingNode(tag, found, event.start_mark, event.end_mark)

    def _below(self, event: Any, level: int) -> Any:
        self._look(event, level + 1)
        return self._node(event, level + 1)

    def _look(self, event: Any, level: int) -> None:
        kind = type(event)
        if kind is yaml.AliasEvent:
            line = event.start_mark.line + 1
            raise TreeRefused(f"There is an alias (*) on line {line}; aliases are not read.", line)
        if level > DEEPEST:
            raise TreeRefused(f"It is nested deeper than {DEEPEST} levels.")
        self._count += 1
        if self._count > self._most:
            raise TreeRefused(f"It holds more than {self._most:,} values.")


def _check_size(text: str, largest: int = LARGEST) -> None:
    if len(text) > largest:
        raise TreeRefused(f"It is larger than {largest // 2**20} MiB, so it was not read.")
