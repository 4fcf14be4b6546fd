"""The pace of calls that come from many threads at once: the buckets of :mod:`neatlatch.core.retries`, kept by name."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Hashable, Mapping
from threading import Lock

from neatlatch.core.retries import Bucket


class Paces:
    """Buckets by name, for any number of threads. Beyond ``most`` of them, the one that was taken from longest ago is forgotten."""

    def __init__(self, most: int = 4_096) -> None:
        self._buckets: OrderedDict[Hashable, Bucket] = OrderedDict()
        self._turn, self._most = Lock(), most

    def __len__(self) -> int:
        return len(self._buckets)

    def take(self, paces: Mapping[Hashable, float], at: float, longest: float) -> tuple[float, bool]:
        """Take one call out of each bucket, named with its pace in calls a second; answers the seconds to wait before calling, and whether it
        was taken: where the wait would be longer than ``longest``, nothing is taken out of any. ``at`` is in seconds of any steady clock.
        """
        with self._turn:
            after: dict[Hashable, Bucket] = {}
            wait = 0.0
            for name, pace in paces.items():
                bucket = self._buckets.get(name, Bucket.full(pace, at)).at_pace(pace)
                after[name], own = bucket.take(at)
                wait = max(wait, own)
            if wait > longest:
                return wait, False
            for name, bucket in after.items():
                self._buckets[name] = bucket
                self._buckets.move_to_end(name)
            while len(self._buckets) > self._most:
                self._buckets.popitem(last=False)
            return wait, True
