"""Access rules against a plain evaluator that shares nothing with them; formats; rules that never
decide.
"""

from __future__ import annotations

import ipaddress
import itertools

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neatlatch.core.access import (
    AccessDecision,
    BadRules,
    Book,
    KnownRules,
    Rule,
    RuleEvaluator,
    derive,
    formats,
    never_decide,
    work_out,
)
from neatlatch.core.profiles import Operation, ScopeInfo

WHO, GROUPS, OPERATIONS = ("ada", "bo", "cy"), ("quays", "ships"), ("read", "send")
RESOURCES = ("", "a", "ab", "abc", "b", "ba")
NETWORKS = (
    "203.0.113.0/24",
    "203.0.113.0/25",
    "203.0.113.128/25",
    "203.0.113.7/32",
    "2001:db8::/32",
)
ADDRESSES = (
    "203.0.113.7",
    "203.0.113.9",
    "203.0.113.200",
    "198.51.100.1",
    "2001:db8::1",
    "2001:db9::1",
)


def plain(
    book: Book, who: str, operation: str, resource: str, address: str
) -> tuple[bool, int | None]:
    """Every rule is looked at in turn: the first deny that holds decides, else the first allow."""
    holding = []
    for place, rule in enumerate(book.rules):
        named = rule.who == "*" or (
            who in book.groups.get(rule.who, ()) if rule.group else who == rule.who
        )
        thing = (
            resource[: len(rule.resource)] == rule.resource
            if rule.prefix
            else resource == rule.resource
        )
        where = not rule.networks or any(
            ipaddress.ip_address(address) in ipaddress.ip_network(network)
            for network in rule.networks
        )
        if named and thing and where and rule.operation in (operation, "*"):
            holding.append(place)
    for place in holding:
        if not book.rules[place].allow:
            return False, place
    return bool(holding), holding[0] if holding else None


@st.composite
def books(draw: st.DrawFn) -> Book:
    """Up to eight rules about three people, two groups, two operations and nested resources and
    networks.
    """

    def rule() -> Rule:
        group = draw(st.booleans())
        prefix = draw(st.booleans())
        return Rule(
            draw(st.booleans()),
            draw(st.sampled_from(GROUPS if group else (*WHO, "*"))),
            draw(st.sampled_from((*OPERATIONS, "*"))),
            draw(st.sampled_from(RESOURCES if prefix else RESOURCES[1:])),
            prefix,
            group,
            tuple(draw(st.lists(st.sampled_from(NETWORKS), max_size=2, unique=True))),
        )

    groups = {name: tuple(sorted(draw(st.sets(st.sampled_from(WHO))))) for name in GROUPS}
    return Book(tuple(rule() for _ in range(draw(st.integers(0, 8)))), groups)


@pytest.mark.slow
@settings(max_examples=40)
@given(books())
def test_every_decision_is_that_of_the_plain_evaluator(book: Book) -> None:
    access = RuleEvaluator(book)
    for who, operation, resource, address in itertools.product(
        (*WHO, "nobody"), OPERATIONS, (*RESOURCES[1:], "abcd", "z"), ADDRESSES
    ):
        found = access.decide(who, operation, resource, address)
        assert (found.allowed, found.rule) == plain(book, who, operation, resource, address)


@pytest.mark.slow
@settings(max_examples=40)
@given(books())
def test_rules_never_decide_exactly_when_no_request_finds_them_deciding(book: Book) -> None:
    """Requests are tried from every part of the small world: every string up to four letters, an
    address out of every piece of the networks.
    """
    letters = [
        *("".join(one) for size in range(1, 4) for one in itertools.product("abz", repeat=size)),
        "abc",
        "abcz",
    ]
    asked = itertools.product((*WHO, "nobody"), OPERATIONS, letters, ADDRESSES)
    deciding = {plain(book, *item)[1] for item in asked}
    assert set(never_decide(book, OPERATIONS)) == set(range(len(book.rules))) - deciding


@pytest.mark.slow
@settings(max_examples=40)
@given(books())
def test_the_matrix_is_made_of_decisions(book: Book) -> None:
    resources = ("a", "ab", "b", "a*", "*")
    found = work_out(book, WHO, resources, OPERATIONS)
    for (a, who), (b, resource), (c, operation) in itertools.product(
        enumerate(WHO), enumerate(resources), enumerate(OPERATIONS)
    ):
        cell = found.cells[a][b][c]
        tried = {
            plain(book, who, operation, resource.replace("*", "~~"), address)
            for address in ADDRESSES
        }
        allowed = {one for one, _ in tried}
        assert cell.verdict is (
            AccessDecision.SOME
            if len(allowed) == 2
            else AccessDecision.YES
            if True in allowed
            else AccessDecision.NO
        )
        assert {rule for _, rule in tried if rule is not None} == set(cell.rules)


@pytest.mark.slow
@given(books())
def test_rules_go_out_and_come_in_again_the_same(book: Book) -> None:
    for out, back in ((formats.to_csv, formats.from_csv), (formats.to_json, formats.from_json)):
        again = back(out(book), OPERATIONS)
        assert (again.rules, dict(again.groups)) == (book.rules, dict(book.groups))


@pytest.mark.slow
@settings(max_examples=40)
@given(books(), books())
def test_a_difference_is_nothing_exactly_when_both_are_the_same(one: Book, other: Book) -> None:
    known = KnownRules(WHO, RESOURCES[1:], OPERATIONS)
    lists = (
        known.principals_of(one, other),
        known.resources_of(one, other),
        known.operations_of(one, other),
    )
    a, b = (work_out(book, *lists) for book in (one, other))
    told = formats.difference(one, other, known)
    few = formats.difference(one, other, known, 1)
    assert (few.counts, few.rights) == (told.counts, told.rights[:1])
    assert told.counts.rights == len(told.rights)
    assert (
        told.nothing == (one.rules == other.rules and one.groups == other.groups)
        or len(set(one.rules)) < len(one.rules)
        or len(set(other.rules)) < len(other.rules)
    )
    changed = sum(
        x.verdict is not y.verdict or x.allowed_from != y.allowed_from
        for p, q in zip(a.cells, b.cells, strict=True)
        for r, s in zip(p, q, strict=True)
        for x, y in zip(r, s, strict=True)
    )
    assert len(told.rights) == changed


SHADOWED = Book(
    (
        Rule(True, "quays", "read", "", True, True),
        Rule(True, "ada", "read", "positions"),
        Rule(False, "*", "send", "", True),
        Rule(True, "ada", "send", "arrivals"),
        Rule(True, "bo", "read", "positions", networks=("203.0.113.0/24",)),
        Rule(True, "crew", "read", "positions", group=True),
    ),
    {"quays": ("ada",), "crew": ()},
)


def test_rules_that_are_shadowed_or_about_nobody_never_decide() -> None:
    # 1: the group's prefix comes before it; 3: deny wins; 5: nobody is in the group.
    assert never_decide(SHADOWED, OPERATIONS) == (1, 3, 5)


def test_two_halves_of_a_network_shadow_the_whole_of_it() -> None:
    halves = Book(
        (
            Rule(False, "*", "read", "a", networks=(NETWORKS[1],)),
            Rule(False, "*", "read", "a", networks=(NETWORKS[2],)),
            Rule(False, "*", "read", "a", networks=(NETWORKS[0],)),
        )
    )
    assert never_decide(halves, OPERATIONS) == (2,)


def test_sentences() -> None:
    assert SHADOWED.rules[0].says == "allow group quays read on all"
    assert SHADOWED.rules[4].says == "allow bo read on positions from 203.0.113.0/24"
    assert Rule(False, "*", "*", "pos", True).says == "deny everybody everything on pos…"


def test_a_request_from_nowhere_known_finds_only_rules_for_anywhere() -> None:
    assert not RuleEvaluator(SHADOWED).decide("bo", "read", "positions").allowed
    assert RuleEvaluator(SHADOWED).decide("bo", "read", "positions", "203.0.113.4").allowed
    with pytest.raises(ValueError):
        RuleEvaluator(SHADOWED).decide("bo", "read", "positions", "somewhere")


@pytest.mark.parametrize(
    ("text", "line", "says"),
    [
        ("", 1, "the first line must be"),
        ("who,effect\r\n", 1, "the first line must be"),
        (
            "effect,who,operation,resource,match,from\n"
            "allow,ada,read,a,exact,\npermit,ada,read,a,exact,\n",
            3,
            "allow or deny, not 'permit'",
        ),
        (
            "effect,who,operation,resource,match,from\nallow,ada,fly,a,exact,\n",
            2,
            "'fly' is no operation here",
        ),
        (
            "effect,who,operation,resource,match,from\nallow,group:x,read,a,exact,\n",
            2,
            "there is no group 'x'",
        ),
        (
            "effect,who,operation,resource,match,from\n\nallow,ada,read,a,nearly,\n",
            3,
            "exact or prefix",
        ),
        (
            "effect,who,operation,resource,match,from\nallow,ada,read,a,exact,10.0.0.0/99\n",
            2,
            "neither an address nor a network",
        ),
        ('effect,who,operation,resource,match,from\nallow,"ada', 2, "not CSV"),
        (
            "effect,who,operation,resource,match,from\nallow,ada,read,a,exact,,too,many\n",
            2,
            "there are 8 values",
        ),
    ],
)
def test_a_mistake_in_csv_is_told_with_its_line(text: str, line: int, says: str) -> None:
    with pytest.raises(BadRules, match=says) as told:
        formats.from_csv(text, OPERATIONS)
    assert told.value.line == line


def test_all_mistakes_are_told_at_once() -> None:
    """F18: one at a time was told."""
    lines = [
        "effect,who,operation,resource,match,from",
        "allow,ada,fly,a,exact,",
        "allow,ada,read,a,exact,",
        "member,x,ada",
        "permit,ada,read,a,exact,",
    ]
    with pytest.raises(BadRules) as told:
        formats.from_csv("\n".join(lines), OPERATIONS)
    assert [
        part.partition(":")[0] for part in str(told.value).split("; ") if part.startswith("line")
    ] == ["line 2", "line 4", "line 5"]
    rules = [{"effect": "allow", "who": "ada", "operation": "read"}] * 30
    with pytest.raises(BadRules, match="rule 1: .*rule 8: .*; and 22 more"):
        formats.from_plain({"rules": rules}, OPERATIONS)


def test_rules_that_hold_from_elsewhere_are_named() -> None:
    """F18: “no rule speaks of it” was said of them."""
    book = Book(
        (Rule(True, "ada", "read", "a", networks=("10.0.0.0/8",)), Rule(True, "bob", "read", "a"))
    )
    access = RuleEvaluator(book)
    assert (
        access.decide("ada", "read", "a").elsewhere,
        access.decide("ada", "read", "a", "192.0.2.1").elsewhere,
    ) == ((0,), (0,))
    assert (
        access.decide("ada", "read", "a", "10.1.1.1").rule,
        access.decide("ada", "read", "b").elsewhere,
    ) == (0, ())


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("{", "line 1: this is not JSON"),
        ("[]", "an object with"),
        (
            '{"rules": [{"effect": "allow", "who": "ada", "operation": "read", "resource": '
            '"a"}, {"effect": "x"}]}',
            "rule 2: the effect",
        ),
        (
            '{"rules": [{"effect": "allow", "who": "ada", "operation": "read", "resource": '
            '"a", "until": "x"}]}',
            "'until' is nothing",
        ),
        ('{"rules": [], "groups": {"x": "ada"}}', "lists of principals"),
        ("[" * 100000, "JSON"),
    ],
)
def test_a_mistake_in_json_is_told(text: str, says: str) -> None:
    with pytest.raises(BadRules, match=says):
        formats.from_json(text, OPERATIONS)


def test_the_rules_that_roles_amount_to() -> None:
    roles = (ScopeInfo("viewer"), ScopeInfo("agent", implies=("viewer",)))
    operations = (
        Operation("GET", "/tickets", alternatives=(frozenset({"viewer"}),)),
        Operation("PUT", "/tickets/{n}", alternatives=(frozenset({"agent"}),)),
    )
    book = derive(roles, operations, {"svc-a": ["viewer"], "svc-b": ["agent"]})
    found = work_out(
        book, ("svc-a", "svc-b", "svc-c"), ("/tickets", "/tickets/{n}"), ("GET", "PUT")
    )
    verdicts = [[[cell.verdict.value for cell in some] for some in row] for row in found.cells]
    assert verdicts == [
        [["yes", "no"], ["no", "no"]],
        [["yes", "no"], ["no", "yes"]],
        [["no", "no"], ["no", "no"]],
    ]
