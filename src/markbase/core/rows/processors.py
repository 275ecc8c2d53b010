"""Working on several parts at the same time, with results in the order of the parts."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

S = TypeVar("S")
T = TypeVar("T")

PROCESSORS = min(os.cpu_count() or 1, 8)
"""So many parts are worked on at the same time."""


def in_order(function: Callable[[S], T], items: Iterable[S]) -> Iterator[T]:
    """Yield what a function makes of each item, in their order; a few are worked on at the same time, and no more are waited for."""
    if PROCESSORS == 1:
        yield from map(function, items)
        return
    with ThreadPoolExecutor(PROCESSORS) as pool:
        waiting: deque[Future[T]] = deque()
        try:
            for item in items:
                waiting.append(pool.submit(function, item))
                if len(waiting) > PROCESSORS:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            for task in waiting:
                task.cancel()
