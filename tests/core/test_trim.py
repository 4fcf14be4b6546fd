"""The trim against brute force and against an integer program; laying work out against a maximum
flow.
"""

from __future__ import annotations

import itertools
import random
from fractions import Fraction

import networkx
import numpy
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import Bounds, LinearConstraint, milp
from scipy.sparse import lil_matrix

from neatlatch.core import hitting
from neatlatch.core.horizon import Job, spread
from neatlatch.core.profiles import ScopeInfo
from neatlatch.core.scopes import Alternatives, allows, closure
from neatlatch.core.trim import Call, WeighedScope, smallest, trim

System = tuple[dict[str, WeighedScope], list[tuple[str, Alternatives]]]


def brute_force(
    scopes: dict[str, WeighedScope], operations: list[tuple[str, Alternatives]]
) -> tuple[Fraction, frozenset[str]] | None:
    """Every set of scopes is tried; of those of least weight the one that is first when names are
    compared from the last.
    """
    implies = {name: one.implies for name, one in scopes.items()}
    names = sorted(scopes)
    fitting = []
    for size in range(len(names) + 1):
        for some in itertools.combinations(names, size):
            have = closure(some, implies)
            if all(
                any(alternative <= have for alternative in alternatives)
                for _, alternatives in operations
            ):
                fitting.append(
                    (
                        sum((scopes[item].weight for item in some), Fraction(0)),
                        tuple(name in some for name in reversed(names)),
                        frozenset(some),
                    )
                )
    return (min(fitting)[0], min(fitting)[2]) if fitting else None


def integer_program(
    scopes: dict[str, WeighedScope], operations: list[tuple[str, Alternatives]]
) -> float:
    """The least weight by scipy's solver: a variable for each scope and each alternative."""
    names = sorted(scopes)
    implies = {name: one.implies for name, one in scopes.items()}
    brings = {name: closure({name}, implies) for name in names}
    alternatives = [(place, some) for place, (_, all_) in enumerate(operations) for some in all_]
    rows: list[tuple[dict[int, float], float]] = []
    for place in range(len(operations)):
        rows.append(
            ({len(names) + k: 1 for k, (of, _) in enumerate(alternatives) if of == place}, 1)
        )
    for k, (_, some) in enumerate(alternatives):
        for wanted in some:
            rows.append(
                (
                    {i: 1.0 for i, name in enumerate(names) if wanted in brings[name]}
                    | {len(names) + k: -1.0},
                    0,
                )
            )
    matrix = lil_matrix((len(rows), len(names) + len(alternatives)))
    for place, (entries, _) in enumerate(rows):
        for column, value in entries.items():
            matrix[place, column] = value
    prices = numpy.array([float(scopes[name].weight) for name in names] + [0.0] * len(alternatives))
    found = milp(
        prices,
        constraints=LinearConstraint(matrix.tocsr(), [least for _, least in rows], numpy.inf),
        integrality=numpy.ones(len(prices)),
        bounds=Bounds(0, 1),
    )
    assert found.success
    return float(found.fun)


NAMES = [f"s{number}" for number in range(7)]


@st.composite
def systems(draw: st.DrawFn) -> System:
    """Up to seven scopes that may imply each other, even in a ring, and up to six operations."""
    scopes = {
        name: WeighedScope(
            draw(
                st.sampled_from(
                    [Fraction(0), Fraction(1), Fraction(3), Fraction(13, 4), Fraction(10)]
                )
            ),
            tuple(draw(st.sets(st.sampled_from(NAMES), max_size=2))),
        )
        for name in NAMES[: draw(st.integers(1, 7))]
    }
    alternative = st.frozensets(st.sampled_from(NAMES), max_size=3)
    operations = draw(st.lists(st.lists(alternative, max_size=3), max_size=6))
    return scopes, [(f"o{place}", tuple(one)) for place, one in enumerate(operations)]


@pytest.mark.slow
@given(systems())
def test_trim_is_what_brute_force_finds(system: System) -> None:
    scopes, operations = system
    known = {
        name: WeighedScope(one.weight, tuple(other for other in one.implies if other in scopes))
        for name, one in scopes.items()
    }
    expected, found = brute_force(known, operations), smallest(known, operations)
    if expected is None:
        assert found.scopes is None
        assert (
            set(found.impossible)
            == {name for name, some in operations if not any(item <= known.keys() for item in some)}
            != set()
        )
    else:
        assert (found.weight, found.scopes) == expected


@given(
    st.lists(st.sets(st.integers(0, 7), min_size=1, max_size=5), max_size=9),
    st.lists(st.integers(1, 5), min_size=8, max_size=8),
)
def test_a_system_given_piece_by_piece_has_the_same_answer(
    sets: list[set[int]], prices: list[int]
) -> None:
    masks = [sum(1 << item for item in some) for some in sets]
    prices = [(one << 8) + (1 << place) for place, one in enumerate(prices)]
    lazily = hitting.cheapest(
        prices, masks[:1], lambda chosen: [mask for mask in masks if not mask & chosen][:1]
    )
    assert lazily == hitting.cheapest(prices, masks)


def large(seed: int, implying: float, alternatives: tuple[int, int], most: int) -> System:
    """Sixty scopes and four hundred operations."""
    chance = random.Random(seed)
    names = [f"scope{number:02}" for number in range(60)]
    scopes = {}
    for place, name in enumerate(names):
        implied = chance.sample(names[:place], min(place, 2)) if chance.random() < implying else []
        scopes[name] = WeighedScope(
            Fraction(chance.choice((1, 3, 10))) + Fraction(chance.choice((0, 1)), 4), tuple(implied)
        )
    return scopes, [
        (
            f"o{number}",
            tuple(
                frozenset(chance.sample(names, chance.randint(1, most)))
                for _ in range(chance.randint(*alternatives))
            ),
        )
        for number in range(400)
    ]


@pytest.mark.parametrize(
    ("seed", "implying", "alternatives", "most"),
    [(1, 0.3, (1, 3), 3), (2, 0.3, (2, 3), 2), (3, 0.0, (2, 2), 1), (4, 0.6, (2, 4), 2)],
)
def test_sixty_scopes_and_four_hundred_operations_as_the_integer_program(
    seed: int, implying: float, alternatives: tuple[int, int], most: int
) -> None:
    scopes, operations = large(seed, implying, alternatives, most)
    assert float(smallest(scopes, operations).weight) == pytest.approx(
        integer_program(scopes, operations)
    )


@pytest.mark.slow
def test_an_operation_with_very_many_ways_is_worked_out_too() -> None:
    names = [f"s{number:02}" for number in range(30)]
    scopes = {name: WeighedScope(Fraction(1 + place % 3)) for place, name in enumerate(names)}
    chance = random.Random(5)
    operations = [
        (f"o{number}", tuple(frozenset(chance.sample(names, 5)) for _ in range(5)))
        for number in range(12)
    ]
    assert float(smallest(scopes, operations).weight) == pytest.approx(
        integer_program(scopes, operations)
    )


KNOWN = (
    ScopeInfo("manifest.read"),
    ScopeInfo("manifest.write", kind="write", administrator=True, implies=("manifest.read",)),
    ScopeInfo("berth.read"),
    ScopeInfo("all", kind="admin", implies=("manifest.write", "berth.read")),
)
READ, WRITE, BERTHS = (
    frozenset({"manifest.read"}),
    frozenset({"manifest.write"}),
    frozenset({"berth.read"}),
)


def test_the_trim_gives_its_reasons() -> None:
    night = Call("Night manifest run", "PUT /manifests/{number}", (WRITE,))
    report = Call("Freight desk report", "GET /manifests", (READ, WRITE))
    board = Call("Quay board", "GET /quays", (frozenset({"quay.read"}),))
    health = Call("Quay board", "GET /alive", ())
    found = trim(KNOWN, frozenset({"manifest.read", "berth.read"}), [night, report, board, health])
    assert [(item.scope, item.needed_by) for item in found.kept] == [
        ("manifest.write", (night, report))
    ]
    assert found.can_go == ("berth.read", "manifest.read")  # manifest.write brings manifest.read
    assert found.missing == ("manifest.write",)
    assert found.impossible == (board,)
    assert (found.weight, found.held_weight) == (Fraction(13, 4), Fraction(2))


def test_nothing_to_do_needs_nothing() -> None:
    found = trim(KNOWN, frozenset({"all"}), [])
    assert (found.kept, found.can_go, found.missing) == ((), ("all",), ())


@given(
    st.lists(
        st.sampled_from(
            [
                ("a", (READ,)),
                ("b", (READ, WRITE)),
                ("c", (WRITE, BERTHS)),
                ("d", (frozenset({"all"}),)),
            ]
        ),
        max_size=4,
    )
)
def test_every_scope_of_the_trim_is_needed_by_somebody_and_together_they_do(
    chosen: list[tuple[str, Alternatives]],
) -> None:
    calls = [Call("u", name, alternatives) for name, alternatives in chosen]
    found = trim(KNOWN, frozenset(), calls)
    implies = {scope_info.name: scope_info.implies for scope_info in KNOWN}
    assert all(allows(found.scopes, call.alternatives, implies) for call in calls)
    assert all(item.needed_by for item in found.kept)


@given(
    st.lists(st.tuples(st.integers(1, 9), st.integers(0, 4)), max_size=9),
    st.sets(st.integers(1, 12), max_size=9),
    st.integers(1, 3),
)
def test_the_quietest_busiest_day_is_what_a_maximum_flow_finds(
    spans: list[tuple[int, int]], days: set[int], capacity: int
) -> None:
    jobs = [Job(f"J{place}", start, start + length) for place, (start, length) in enumerate(spans)]

    def fits(peak: int) -> bool:
        graph = networkx.DiGraph()
        graph.add_nodes_from(["from", "to"])
        for job in jobs:
            graph.add_edge("from", job.id, capacity=1)
            for day in days:
                if job.release <= day <= job.due:
                    graph.add_edge(job.id, day, capacity=1)
        for day in days:
            graph.add_edge(day, "to", capacity=peak)
        return bool(networkx.maximum_flow_value(graph, "from", "to") == len(jobs))

    found = spread(jobs, sorted(days), capacity)
    expected = next((peak for peak in range(capacity + 1) if fits(peak)), None)
    assert found.peak == expected
    if found.peak is None:
        told = found.overfull
        assert told is not None
        assert (
            told.jobs
            == sum(told.from_day <= job.release and job.due <= told.to_day for job in jobs)
            > told.room
        )
        assert told.room == capacity * sum(told.from_day <= day <= told.to_day for day in days)
    else:
        assert all(
            one.release <= day <= one.due and day in days
            for one, day in zip(jobs, found.days, strict=True)
        )
        assert max((found.days.count(day) for day in found.days), default=0) == found.peak
