"""Rules as CSV (RFC 4180) and as JSON, and what a change of them comes to.

CSV has a heading and a line for each rule: ``effect,who,operation,resource,match,from``. ``who`` is
a principal, ``group:name`` or ``*``; ``match`` is exact or prefix; ``from`` holds networks apart by
spaces. A line ``member,group:name,principal`` puts somebody into a group.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from .deciding import RuleEvaluator, TooMuch
from .effective import MOST_STEPS, KnownRules, cell, check_size, loose_end
from .rules import BadRules, Book, Rule, checked

HEADING = ("effect", "who", "operation", "resource", "match", "from")
MOST = 20_000


def to_csv(book: Book) -> str:
    """The rules and groups as CSV."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(HEADING)
    for group, members in sorted(book.groups.items()):
        for member in members or ("",):
            writer.writerow(("member", f"group:{group}", member, "", "", ""))
    for rule in book.rules:
        who = f"group:{rule.who}" if rule.group else rule.who
        writer.writerow(
            (
                "allow" if rule.allow else "deny",
                who,
                rule.operation,
                rule.resource,
                "prefix" if rule.prefix else "exact",
                " ".join(rule.networks),
            )
        )
    return out.getvalue()


def from_csv(text: str, operations: Sequence[str] = ()) -> Book:
    """Read rules from CSV. Raises :class:`BadRules` with the line."""
    groups: dict[str, dict[str, None]] = {}
    rows: list[tuple[int, list[str]]] = []
    reader = csv.reader(io.StringIO(text.removeprefix("\ufeff")), strict=True)
    try:
        for row in reader:
            if any(one.strip() for one in row):
                rows.append((reader.line_num, [one.strip() for one in row]))
            if len(rows) > MOST:
                raise BadRules(f"more than {MOST:,} rules are not read", reader.line_num)
    except csv.Error as error:
        raise BadRules(f"this is not CSV: {error}", reader.line_num) from error
    if not rows or tuple(row.lower() for row in rows[0][1]) != HEADING:
        raise BadRules(f"the first line must be {','.join(HEADING)}", rows[0][0] if rows else 1)
    members = [(line, row) for line, row in rows[1:] if row[0] == "member"]
    wrong = [told for line, row in members if (told := _member(groups, row, line)) is not None]
    found = []
    for line, row in rows[1:]:
        if row[0] == "member":
            continue
        try:
            found.append(checked(_of_row(row, line), groups, operations, line))
        except BadRules as error:
            wrong.append(error)
    if wrong:
        raise BadRules.together(sorted(wrong, key=lambda entry: entry.line or 0))
    return Book(tuple(found), {name: tuple(members) for name, members in groups.items()})


def _member(groups: dict[str, dict[str, None]], row: list[str], line: int) -> BadRules | None:
    """Put somebody into a group, or say what is wrong with the line."""
    name = row[1].removeprefix("group:") if len(row) > 1 else ""
    if len(row) > len(HEADING):
        return BadRules(f"there are {len(row)} values where {len(HEADING)} are required", line)
    if not name or not row[1].startswith("group:"):
        return BadRules("a member line names its group as group:name", line)
    members = groups.setdefault(name, {})
    if len(row) > 2 and row[2]:
        members[row[2]] = None
    return None


def _of_row(row: list[str], line: int) -> Rule:
    row = [*row, *[""] * (len(HEADING) - len(row))]
    if len(row) > len(HEADING):
        raise BadRules(f"there are {len(row)} values where {len(HEADING)} are required", line)
    if row[0] not in ("allow", "deny"):
        raise BadRules(f"the effect is allow or deny, not {row[0]!r}", line)
    if row[4] not in ("exact", "prefix"):
        raise BadRules(f"the match is exact or prefix, not {row[4]!r}", line)
    group = row[1].startswith("group:")
    who = row[1].removeprefix("group:") if group else row[1]
    return Rule(
        row[0] == "allow", who, row[2], row[3], row[4] == "prefix", group, tuple(row[5].split())
    )


def as_plain(book: Book) -> dict[str, Any]:
    """The rules and groups as plain values."""
    return {
        "groups": {name: list(members) for name, members in sorted(book.groups.items())},
        "rules": [
            {
                "effect": "allow" if rule.allow else "deny",
                "who": f"group:{rule.who}" if rule.group else rule.who,
                "operation": rule.operation,
                "resource": rule.resource,
                "match": "prefix" if rule.prefix else "exact",
                "from": list(rule.networks),
            }
            for rule in book.rules
        ],
    }


def to_json(book: Book) -> str:
    """The rules and groups as JSON."""
    return json.dumps(as_plain(book), indent=2, ensure_ascii=False) + "\n"


def from_json(text: str, operations: Sequence[str] = ()) -> Book:
    """Read rules from JSON. Raises :class:`BadRules`."""
    try:
        return from_plain(json.loads(text), operations)
    except json.JSONDecodeError as error:
        raise BadRules(f"this is not JSON: {error.msg}", error.lineno) from error
    except RecursionError as error:
        raise BadRules("this JSON is nested too deep") from error


def from_plain(plain: Any, operations: Sequence[str] = ()) -> Book:
    """Read rules from plain values. Raises :class:`BadRules` that names the rule by its number."""
    if not isinstance(plain, Mapping) or not isinstance(plain.get("rules"), list):
        raise BadRules("an object with “groups” and “rules” is required")
    if len(plain["rules"]) > MOST:
        raise BadRules(f"more than {MOST:,} rules are not read")
    groups = plain.get("groups") or {}
    if not isinstance(groups, Mapping) or not all(
        isinstance(group, list) and all(isinstance(who, str) for who in group)
        for group in groups.values()
    ):
        raise BadRules("“groups” is an object of lists of principals")
    rules, wrong = [], []
    for number, one in enumerate(plain["rules"], 1):
        try:
            rules.append(checked(_rule(one), groups, operations))
        except BadRules as error:
            wrong.append(BadRules(f"rule {number}: {error}"))
    if wrong:
        raise BadRules.together(wrong)
    return Book(
        tuple(rules), {str(name): tuple(dict.fromkeys(members)) for name, members in groups.items()}
    )


def _rule(plain: Any) -> Rule:
    if not isinstance(plain, Mapping):
        raise BadRules("a rule is an object")
    if unknown := sorted(set(plain) - set(HEADING)):
        raise BadRules(f"{unknown[0]!r} is nothing that a rule has; it has {', '.join(HEADING)}")
    effect, match, networks = (
        plain.get("effect"),
        plain.get("match", "exact"),
        plain.get("from", []),
    )
    texts = [plain.get(key, "") for key in ("who", "operation", "resource")]
    if effect not in ("allow", "deny"):
        raise BadRules(f"the effect is allow or deny, not {effect!r}")
    if match not in ("exact", "prefix"):
        raise BadRules(f"the match is exact or prefix, not {match!r}")
    if (
        not all(isinstance(text, str) for text in texts)
        or not isinstance(networks, list)
        or not all(isinstance(text, str) for text in networks)
    ):
        raise BadRules("who, operation and resource are texts, and “from” is a list of networks")
    who, operation, resource = (str(text).strip() for text in texts)
    group = who.startswith("group:")
    return Rule(
        effect == "allow",
        who.removeprefix("group:") if group else who,
        operation,
        resource,
        match == "prefix",
        group,
        tuple(networks),
    )


@dataclass(frozen=True)
class RightChange:
    """A right that a change of rules gives or takes."""

    principal: str
    operation: str
    resource: str
    before: str
    after: str

    @property
    def loses(self) -> bool:
        """Whether somebody may do less than before."""
        return (self.before, self.after) in (("yes", "no"), ("yes", "some"), ("some", "no"))

    @property
    def gains(self) -> bool:
        """Whether somebody may do more than before."""
        return (self.after, self.before) in (("yes", "no"), ("yes", "some"), ("some", "no"))


@dataclass(frozen=True)
class RightChangeCounts:
    """How many there are of each in all, of which a difference may show the first only."""

    added: int
    gone: int
    rights: int
    losing: int
    gaining: int


@dataclass(frozen=True)
class Difference:
    """What a change comes to: rules added and taken away, groups changed, whether only the order
    differs, and the rights that become others.

    ``losers`` are some of those who may do less; ``unknown`` says why the rights were not worked
    out, where they were not.
    """

    added: tuple[Rule, ...]
    gone: tuple[Rule, ...]
    groups: tuple[str, ...]
    reordered: bool
    rights: tuple[RightChange, ...]
    counts: RightChangeCounts
    losers: tuple[str, ...] = ()
    unknown: str = ""

    @property
    def nothing(self) -> bool:
        """Whether both are the same."""
        return not (self.added or self.gone or self.groups or self.reordered)


def difference(before: Book, after: Book, known: KnownRules, most: int | None = None) -> Difference:
    """What changes from one book to another, in rules and in the rights; ``most``: how many of each
    are told.

    A right is worked out only where the rules about its principal and operation differ; where that
    is too much work, none is.
    """
    was, will = set(before.rules), set(after.rules)
    added = tuple(rule for rule in after.rules if rule not in was)
    gone = tuple(rule for rule in before.rules if rule not in will)
    rights: tuple[RightChange, ...] = ()
    unknown = ""
    try:
        rights = tuple(_of_rights(before, after, known))
    except TooMuch as error:
        unknown = str(error)
    counts = RightChangeCounts(
        len(added),
        len(gone),
        len(rights),
        sum(right.loses for right in rights),
        sum(right.gains for right in rights),
    )
    losers = tuple(dict.fromkeys(right.principal for right in rights if right.loses))[:5]
    reordered = not added and not gone and before.rules != after.rules
    groups = tuple(_of_groups(before, after))
    return Difference(
        added[:most], gone[:most], groups[:most], reordered, rights[:most], counts, losers, unknown
    )


def read(text: str, form: str, operations: Sequence[str] = ()) -> Book:
    """Rules out of a text; ``form`` is csv or json. Raises :class:`BadRules`."""
    return from_csv(text, operations) if form == "csv" else from_json(text, operations)


@dataclass(frozen=True)
class Preview:
    """What the rules of a text come to: how many there are, how many groups, and what
    they change.
    """

    rules: int
    groups: int
    difference: Difference


def preview(
    text: str, form: str, before: Book, known: KnownRules, operations: Sequence[str], most: int
) -> Preview:
    """What rules out of a text would change; the first ``most`` of each.

    Raises :class:`BadRules`.
    """
    after = read(text, form, operations)
    return Preview(len(after.rules), len(after.groups), difference(before, after, known, most))


def _of_groups(before: Book, after: Book) -> Iterator[str]:
    for name in sorted({*before.groups, *after.groups}):
        was, will = set(before.groups.get(name, ())), set(after.groups.get(name, ()))
        if name not in after.groups:
            yield f"group {name} taken away"
        elif name not in before.groups:
            yield f"group {name} added: {', '.join(after.groups[name]) or 'nobody'}"
        elif was != will:
            parts = [f"{name} added" for name in sorted(will - was)] + [
                f"{name} taken out" for name in sorted(was - will)
            ]
            yield f"group {name}: {', '.join(parts)}"


def _of_rights(before: Book, after: Book, known: KnownRules) -> Iterator[RightChange]:
    principals, resources, operations = (
        part_of(before, after)
        for part_of in (known.principals_of, known.resources_of, known.operations_of)
    )
    check_size(principals, resources, operations)
    old, new = RuleEvaluator(before, MOST_STEPS), RuleEvaluator(after, MOST_STEPS)
    loose = loose_end((*before.rules, *after.rules))
    for principal in principals:
        differing = {
            operation
            for operation in operations
            if [rule for _, rule in old.relevant(principal, operation)]
            != [rule for _, rule in new.relevant(principal, operation)]
        }
        for resource in resources if differing else ():
            for operation in operations:
                if operation in differing:
                    one, other = (
                        cell(access, principal, operation, resource, loose) for access in (old, new)
                    )
                    if (one.verdict, one.allowed_from) != (other.verdict, other.allowed_from):
                        yield RightChange(
                            principal, operation, resource, one.verdict.value, other.verdict.value
                        )
