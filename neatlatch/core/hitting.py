"""The cheapest set that hits every one of many sets, exactly.

Branch and bound on a set system kept as bit masks. The bound is a feasible solution of the dual
linear program, found by raising one dual variable after another (Bar-Yehuda and Even 1981, "A
linear-time approximation algorithm for the weighted vertex cover problem"); elements whose reduced
cost alone would pass the best known price are left out of the branch.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from functools import lru_cache

Further = Callable[[int], Iterable[int]]


def elements(mask: int) -> Iterator[int]:
    """The numbers of the bits that are set, lowest first."""
    while mask:
        low = mask & -mask
        yield low.bit_length() - 1
        mask ^= low


def minimal(sets: Iterable[int]) -> list[int]:
    """The sets that hold no other: anyone who hits these hits all."""
    kept: list[int] = []
    for set_ in sorted(set(sets), key=int.bit_count):
        if not any(other & set_ == other for other in kept):
            kept.append(set_)
    return kept


def cheapest(prices: list[int], sets: Iterable[int], further: Further | None = None) -> int | None:
    """The mask of the cheapest elements that hit every set; ``None``: no elements can.

    ``prices`` are whole numbers, not below 1, by element. ``further`` answers, for a mask that hits
    all sets known so far, more sets that it does not hit; so a system too large to be written out
    can be given piece by piece.
    """
    return _Search(prices, further).run(minimal(sets))


class _Search:
    def __init__(self, prices: list[int], further: Further | None) -> None:
        self.prices = prices
        self.more: Further = further or (lambda chosen: ())
        self.members = lru_cache(maxsize=200_000)(lambda mask: tuple(elements(mask)))
        # What replaces an element in the sets known so far may not replace it in those still to
        # come.
        self.all_known = further is None
        self.best: int | None = None
        self.best_price = sum(prices) + 1
        self.all_sets: list[int] = []

    def run(self, sets: list[int]) -> int | None:
        """The answer."""
        self.all_sets = sets
        self._greedy(sets)
        self._branch(0, 0, 0, 0)
        return self.best

    def _price(self, mask: int) -> int:
        return sum(self.prices[element] for element in elements(mask))

    def _greedy(self, sets: list[int]) -> None:
        """A good set to begin with: the best value again and again, then whatever turned out
        needless is taken away.
        """
        self.all_sets.extend([] if sets else self.more(0))
        chosen, left = 0, self.all_sets[:]
        while left:
            counts: dict[int, int] = {}
            for members in left:
                for e in elements(members):
                    counts[e] = counts.get(e, 0) + 1
            if not counts:
                return
            pick = min(counts, key=lambda e: (self.prices[e] / counts[e], self.prices[e]))
            chosen |= 1 << pick
            left = [members for members in left if not members & chosen]
            if not left:
                left = [members for members in self.more(chosen) if not members & chosen]
                self.all_sets.extend(left)
                if any(not members for members in left):
                    return
        for e in sorted(elements(chosen), key=lambda e: -self.prices[e]):
            rest = chosen & ~(1 << e)
            if all(members & rest for members in self.all_sets) and not list(self.more(rest)):
                chosen = rest
        self._take(chosen)

    def _take(self, chosen: int) -> None:
        price = self._price(chosen)
        if price < self.best_price:
            self.best, self.best_price = chosen, price

    def _branch(self, chosen: int, banned: int, paid: int, depth: int) -> None:
        """All sets of elements with ``chosen`` in and ``banned`` out, as far as they can still be
        cheaper than the best.
        """
        prices = self.prices
        while True:
            left = []
            forced = 0
            for members in self.all_sets:
                if members & chosen:
                    continue
                open_ = members & ~banned
                if not open_:
                    return
                if not open_ & (open_ - 1):
                    forced |= open_
                left.append(open_)
            if forced:
                chosen |= forced
                paid = self._price(chosen)
                if paid >= self.best_price:
                    return
                continue
            if not left:
                new = [members for members in self.more(chosen) if not members & chosen]
                if not new:
                    self._take(chosen)
                    return
                self.all_sets.extend(new)
                continue
            if depth < 2:
                left = minimal(left)
                if self.all_known and (dominated := self._dominated(left)):
                    banned |= dominated
                    continue
            bound, residual = self._bound(left)
            if paid + bound >= self.best_price:
                return
            room = self.best_price - paid - bound
            out = 0
            for e, rest in enumerate(residual):
                if rest >= room:
                    out |= 1 << e
            out &= ~(banned | chosen)
            if out:
                banned |= out
                continue
            break
        where: dict[int, int] = {}
        for number in left:
            for e in self.members(number):
                where[e] = where.get(e, 0) + 1
        smallest = min(
            left,
            key=lambda number: (number.bit_count(), -max(where[e] for e in self.members(number))),
        )
        order = sorted(self.members(smallest), key=lambda e: prices[e] / where[e])
        for e in order:
            self._branch(chosen | (1 << e), banned, paid + prices[e], depth + 1)
            banned |= 1 << e

    def _dominated(self, left: list[int]) -> int:
        """Elements that another one, no dearer, replaces in every set they hit."""
        hits: dict[int, int] = {}
        for place, one in enumerate(left):
            for e in self.members(one):
                hits[e] = hits.get(e, 0) | (1 << place)
        out = 0
        for number in left:
            inside = self.members(number)
            for e in inside:
                if out >> e & 1:
                    continue
                mine, price = hits[e], self.prices[e]
                if any(
                    other != e
                    and not out >> other & 1
                    and self.prices[other] <= price
                    and mine & ~hits[other] == 0
                    for other in inside
                ):
                    out |= 1 << e
        return out

    def _bound(self, left: list[int]) -> tuple[int, list[int]]:
        """A price that no cover of these sets falls below, and what each element still costs beyond
        it.
        """
        residual = list(self.prices)
        total = 0
        for number in sorted(left, key=int.bit_count):
            inside = self.members(number)
            least = min([residual[e] for e in inside])
            if least:
                total += least
                for e in inside:
                    residual[e] -= least
        return total, residual
