"""Rules and the groups that they speak of."""

from __future__ import annotations

import ipaddress
from collections.abc import Container, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from ..profiles import Operation, ScopeInfo
from ..scopes import closure

ANY = "*"
EVERYBODY = "*"
Network = ipaddress.IPv4Network | ipaddress.IPv6Network
Address = ipaddress.IPv4Address | ipaddress.IPv6Address


# Mistakes that are told in words.
MOST_TOLD = 8


class BadRules(ValueError):
    """Rules cannot be read. ``line`` is the line of the text, where it is known."""

    def __init__(self, says: str, line: int | None = None) -> None:
        super().__init__(f"line {line}: {says}" if line else says)
        self.line = line

    @classmethod
    def together(cls, mistakes: Sequence[BadRules]) -> BadRules:
        """All that is wrong with a text: the first of them in words, and how many more
        there are.
        """
        more = len(mistakes) - MOST_TOLD
        told = cls(
            "; ".join(str(bad_rules) for bad_rules in mistakes[:MOST_TOLD])
            + (f"; and {more} more" if more > 0 else "")
        )
        told.line = mistakes[0].line
        return told


@dataclass(frozen=True)
class Rule:
    """Allow or deny: ``who`` is a principal, with ``group`` the name of a group, or ``*`` for
    everybody; ``operation`` a name or ``*``; ``resource`` exact, or with ``prefix`` the start of
    one; ``networks`` from where (none: from anywhere).
    """

    allow: bool
    who: str
    operation: str
    resource: str
    prefix: bool = False
    group: bool = False
    networks: tuple[str, ...] = ()

    @property
    def says(self) -> str:
        """The rule as a sentence."""
        who = (
            f"group {self.who}"
            if self.group
            else "everybody"
            if self.who == EVERYBODY
            else self.who
        )
        what = "everything" if self.operation == ANY else self.operation
        where = (
            ("all" if not self.resource else f"{self.resource}…") if self.prefix else self.resource
        )
        start = f" from {', '.join(self.networks)}" if self.networks else ""
        return f"{'allow' if self.allow else 'deny'} {who} {what} on {where}{start}"


@dataclass(frozen=True)
class Book:
    """All rules of an application in one environment, in order, with the groups' members."""

    rules: tuple[Rule, ...] = ()
    groups: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    def is_for_everybody(self, rule: Rule) -> bool:
        """Whether a rule speaks of all principals."""
        return not rule.group and rule.who == EVERYBODY

    def members(self, rule: Rule) -> frozenset[str] | None:
        """The principals that a rule is about; ``None``: everybody."""
        if rule.group:
            return frozenset(self.groups.get(rule.who, ()))
        return None if self.is_for_everybody(rule) else frozenset({rule.who})

    def principals(self) -> tuple[str, ...]:
        """Everybody whom rules or groups name."""
        named = {rule.who for rule in self.rules if not rule.group and rule.who != EVERYBODY}
        return tuple(sorted(named.union(*self.groups.values())))


def checked(
    rule: Rule, groups: Container[str], operations: Sequence[str] = (), line: int | None = None
) -> Rule:
    """A rule, or :class:`BadRules` that says what is wrong with it.

    ``operations`` are those the application knows (none: any).
    """
    if not rule.who:
        raise BadRules("whom the rule is about is missing", line)
    if rule.group and rule.who not in groups:
        raise BadRules(f"there is no group {rule.who!r}", line)
    if not rule.operation:
        raise BadRules("the operation is missing; * means all of them", line)
    if operations and rule.operation not in (*operations, ANY):
        raise BadRules(
            f"{rule.operation!r} is no operation here; there are {', '.join(operations)}, "
            f"and * for all",
            line,
        )
    if not rule.resource and not rule.prefix:
        raise BadRules("the resource is missing", line)
    for text in rule.networks:
        network(text, line)
    return rule


def network(text: str, line: int | None = None) -> Network:
    """An address or a network such as ``203.0.113.0/24``. Raises :class:`BadRules`."""
    try:
        return ipaddress.ip_network(text, strict=False)
    except ValueError as error:
        raise BadRules(
            f"{text!r} is neither an address nor a network like 203.0.113.0/24", line
        ) from error


def derive(
    roles: Sequence[ScopeInfo],
    operations: Sequence[Operation],
    holders: Mapping[str, Iterable[str]],
) -> Book:
    """The rules that an application's roles amount to: each role is a group that is allowed the
    operations its name opens, with all that it implies.

    ``holders`` are the accounts with the roles that each has.
    """
    implies = {role.name: role.implies for role in roles}
    rules = []
    for role in roles:
        have = closure({role.name}, implies)
        for operation in operations:
            if not operation.alternatives or any(some <= have for some in operation.alternatives):
                rules.append(Rule(True, role.name, operation.method, operation.path, group=True))
    groups = {
        role.name: tuple(sorted(name for name, held in holders.items() if role.name in set(held)))
        for role in roles
    }
    return Book(tuple(rules), groups)


Effect = Literal["allow", "deny"]
