"""A million access decisions, against the plainest evaluator there is in the same run: every rule
looked at in turn.

Run manually: python -m bench.access [decisions]
"""

from __future__ import annotations

import ipaddress
import random
import sys
import time

from neatlatch.core.access import Book, Rule, RuleEvaluator, never_decide

from .table import row


def book(chance: random.Random, rules: int = 200) -> Book:
    """Two hundred rules on a hundred principals in twenty groups, nested resources,
    some networks.
    """
    people = [f"svc-{number:03}" for number in range(100)]
    groups = {f"team-{number:02}": tuple(chance.sample(people, 8)) for number in range(20)}
    made = []
    for _ in range(rules):
        group, prefix = chance.random() < 0.6, chance.random() < 0.5
        area = f"fleet.{chance.randrange(8)}."
        made.append(
            Rule(
                chance.random() < 0.85,
                chance.choice(list(groups) if group else people),
                chance.choice(("read", "send", "*")),
                area if prefix else f"{area}{chance.choice(('positions', 'arrivals', 'fuel'))}",
                prefix,
                group,
                (f"203.0.113.{chance.randrange(4) * 64}/26",) if chance.random() < 0.3 else (),
            )
        )
    return Book(tuple(made), groups)


def plain(rules: Book, who: str, operation: str, resource: str, address: str) -> bool:
    """Deny wins; no rule means no."""
    allowed = False
    for rule in rules.rules:
        if (
            rule.operation in (operation, "*")
            and (who in rules.groups[rule.who] if rule.group else who == rule.who)
            and (resource.startswith(rule.resource) if rule.prefix else resource == rule.resource)
            and (
                not rule.networks
                or any(
                    ipaddress.ip_address(address) in ipaddress.ip_network(network)
                    for network in rule.networks
                )
            )
        ):
            if not rule.allow:
                return False
            allowed = True
    return allowed


def main() -> None:
    """Decide, compare, print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    chance = random.Random(1)
    rules = book(chance)
    asked = [
        (
            f"svc-{chance.randrange(100):03}",
            chance.choice(("read", "send")),
            f"fleet.{chance.randrange(8)}."
            f"{chance.choice(('positions', 'arrivals', 'fuel', 'log'))}",
            f"203.0.113.{chance.randrange(256)}",
        )
        for _ in range(10_000)
    ]
    begun = time.perf_counter()
    few = [plain(rules, *item) for item in asked]
    bare = (time.perf_counter() - begun) / len(asked)
    access = RuleEvaluator(rules)
    begun = time.perf_counter()
    for at in range(count):
        access.decide(*asked[at % len(asked)])
    ours = (time.perf_counter() - begun) / count
    assert few == [access.decide(*item).allowed for item in asked]
    print(
        f"{count:,} decisions on {len(rules.rules)} rules: {ours * 1e6:.2f} µs each, "
        f"{1 / ours:,.0f} a second; "
        f"every rule in turn: {bare * 1e6:.2f} µs each; {bare / ours:.1f} times"
    )
    row(
        f"an access decision on {len(rules.rules)} rules, of {count:,}",
        f"{ours * 1e6:.1f} µs",
        f"every rule in turn: {bare * 1e6:.1f} µs",
        ours / bare,
    )
    begun = time.perf_counter()
    idle = never_decide(rules, ("read", "send"))
    print(
        f"{len(idle)} of {len(rules.rules)} rules never decide; found in "
        f"{time.perf_counter() - begun:.2f} s"
    )


if __name__ == "__main__":
    main()
