"""What opening an encrypted key costs, read from the file before anything is derived from a
password.

PBES2 with PBKDF2 (RFC 8018 §A.2) and scrypt (RFC 7914 §7), the older schemes of PKCS#5 and PKCS#12
(RFC 8018 §A.3, RFC 7292 App. C), and the MAC of PKCS#12 (RFC 7292 §4, RFC 9579). Anyone who wrote
the file chose the rounds; a file of 180 octets may ask for hours of work.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

MOST_ROUNDS = 2_000_000
# All derivations of one file together: a PKCS#12 file has one for its MAC and one for each bag.
MOST_ROUNDS_IN_ALL = 6_000_000
# scrypt fills 128·N·r octets (RFC 7914 §2).
MOST_MEMORY = 64 * 1024 * 1024
# A PKCS#12 file with 200 certificates that are not encrypted has some 40,000 parts.
_DEEPEST, _MOST_NODES = 24, 50_000

_PBKDF2, _SCRYPT = bytes.fromhex("2a864886f70d01050c"), bytes.fromhex("2b06010401da47040b")
_PBES1, _OF_PKCS12 = bytes.fromhex("2a864886f70d0105"), bytes.fromhex("2a864886f70d010c01")
_PBES1_LAST = frozenset((1, 3, 4, 6, 10, 11))


class TooCostly(ValueError):
    """The file asks for more work than any fair one; the message says for how much."""


@dataclass(frozen=True)
class Cost:
    """Rounds of one derivation, or octets of memory and lanes of scrypt."""

    rounds: int = 0
    memory: int = 0
    lanes: int = 1


def check(data: bytes) -> None:
    """Look at PKCS#8 or PKCS#12 in DER or BER.

    Raises :class:`TooCostly`. What is neither costs nothing here.
    """
    rounds = 0
    for cost in costs(data):
        if cost.rounds > MOST_ROUNDS:
            raise TooCostly(
                f"The file asks for {cost.rounds:,} rounds of its key derivation; "
                f"{MOST_ROUNDS:,} are the most that is done."
            )
        if cost.memory > MOST_MEMORY or cost.lanes > 1:
            raise TooCostly(
                f"The file asks scrypt for {cost.memory // 2**20} MiB in {cost.lanes} "
                f"lanes; {MOST_MEMORY // 2**20} MiB in one are the most that is done."
            )
        rounds += cost.rounds
    if rounds > MOST_ROUNDS_IN_ALL:
        raise TooCostly(
            f"The file asks for {rounds:,} rounds of key derivations; "
            f"{MOST_ROUNDS_IN_ALL:,} are the most that is done for one file."
        )


def costs(data: bytes) -> Iterator[Cost]:
    """Every key derivation that a file names in the open.

    Those inside of what is still encrypted are not seen.
    """
    budget = [_MOST_NODES]
    for node in _nodes(memoryview(data), 0, budget):
        if len(node.parts) == 3 and node.parts[0].is_number and node.parts[0].number == 3:
            yield from _of_mac(node.parts[2])
        yield from _within(node, budget)


@dataclass(frozen=True)
class _Node:
    tag: int
    content: memoryview
    parts: tuple[_Node, ...]

    @property
    def is_number(self) -> bool:
        return self.tag == 0x02

    @property
    def number(self) -> int:
        return int.from_bytes(self.content[:64], "big", signed=True)


def _nodes(data: memoryview, depth: int, budget: list[int]) -> Iterator[_Node]:
    """The elements that stand side by side in ``data`` (X.690 §8); ends at the first that cannot be
    read.
    """
    at = 0
    while at < len(data):
        read = _node(data, at, depth, budget)
        if read is None:
            return
        node, at = read
        yield node


def _node(data: memoryview, at: int, depth: int, budget: list[int]) -> tuple[_Node, int] | None:
    budget[0] -= 1
    if budget[0] < 0:
        raise TooCostly("The file has more parts than any key or PKCS#12 file.")
    if depth > _DEEPEST or at + 2 > len(data) or data[at] & 0x1F == 0x1F:
        return None
    tag, length, at = data[at], data[at + 1], at + 2
    if length == 0x80:
        return _of_unknown_length(tag, data, at, depth, budget)
    if length & 0x80:
        octets = length & 0x7F
        length, at = int.from_bytes(data[at : at + octets], "big"), at + octets
    if at + length > len(data):
        return None
    content = data[at : at + length]
    parts = tuple(_nodes(content, depth + 1, budget)) if tag & 0x20 else ()
    return _joined(tag, content, parts), at + length


def _of_unknown_length(
    tag: int, data: memoryview, at: int, depth: int, budget: list[int]
) -> tuple[_Node, int] | None:
    """An element that ends with two zeros in place of a length (X.690 §8.1.3.6), as some programs
    write PKCS#12.
    """
    parts, begin = [], at
    while bytes(data[at : at + 2]) != b"\0\0":
        read = _node(data, at, depth + 1, budget)
        if read is None:
            return None
        part, at = read
        parts.append(part)
    return _joined(tag, data[begin:at], tuple(parts)), at + 2


def _joined(tag: int, content: memoryview, parts: tuple[_Node, ...]) -> _Node:
    """A string that was written in pieces is one string (X.690 §8.7.3)."""
    if tag & 0x1F == 0x04 and tag & 0x20 and parts and all(part.tag == 0x04 for part in parts):
        return _Node(0x04, memoryview(b"".join(part.content for part in parts)), ())
    return _Node(tag, content, parts)


def _within(node: _Node, budget: list[int], depth: int = 0) -> Iterator[Cost]:
    if depth > _DEEPEST:
        return
    if node.tag == 0x30 and len(node.parts) == 2 and node.parts[0].tag == 0x06:
        yield from _of_algorithm(bytes(node.parts[0].content), node.parts[1])
    for part in node.parts:
        yield from _within(part, budget, depth + 1)
    if (
        node.tag == 0x04 and bytes(node.content[:1]) == b"\x30"
    ):  # PKCS#12 has its contents in strings
        for part in _nodes(node.content, depth + 1, budget):
            yield from _within(part, budget, depth + 1)


def _of_algorithm(name: bytes, settings: _Node) -> Iterator[Cost]:
    numbers = [part.number for part in settings.parts if part.is_number]
    if name == _SCRYPT and len(numbers) >= 3:
        yield Cost(memory=128 * numbers[0] * numbers[1], lanes=numbers[2])
    elif name == _PBKDF2 and numbers or _is_older(name) and numbers:
        yield Cost(rounds=numbers[0])


def _is_older(name: bytes) -> bool:
    return (name[:-1] == _PBES1 and name[-1] in _PBES1_LAST) or name[:-1] == _OF_PKCS12


def _of_mac(mac: _Node) -> Iterator[Cost]:
    """MacData: a digest, a salt, and rounds, 1 by default (RFC 7292 §4)."""
    if mac.tag == 0x30 and len(mac.parts) == 3 and mac.parts[2].is_number:
        yield Cost(rounds=mac.parts[2].number)
