"""Working on several parts at the same time, with results in the order of the parts."""

from __future__ import annotations

import os
import sys
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from functools import cache
from itertools import chain, islice
from threading import Lock
from typing import Any, TypeVar

S = TypeVar("S")
T = TypeVar("T")

PROCESSORS = min(os.cpu_count() or 1, 8)
"""So many parts are worked on at the same time."""


class _OneThreadEach:
    """While parts are worked on at the same time, matrix products take one thread each: threads of their own would wait for one another.

    So they do over matrices that are tall and narrow, of which there is little to share out.
    """

    def __init__(self) -> None:
        self._lock, self._inside = Lock(), 0

    def __enter__(self) -> None:
        with self._lock:
            self._inside += 1
            if self._inside == 1:
                self._limit = _thread_pools(*(name in sys.modules for name in _BRING_POOLS)).limit(
                    limits=1, user_api="blas"
                )

    def __exit__(self, *problem: object) -> None:
        with self._lock:
            self._inside -= 1
            if not self._inside:
                self._limit.restore_original_limits()


_BRING_POOLS = ("scipy.linalg._fblas", "scipy.special._ufuncs")
"""Modules that bring pools of threads of their own, some time after NumPy."""


@cache
def _thread_pools(*loaded: bool) -> Any:  # noqa: ARG001 - looked for again when one of these was loaded
    """Return the pools of threads that this process has loaded; finding them takes milliseconds."""
    from threadpoolctl import ThreadpoolController

    return ThreadpoolController()


ONE_THREAD_EACH = _OneThreadEach()


def in_order(function: Callable[[S], T], items: Iterable[S]) -> Iterator[T]:
    """Yield what a function makes of each item, in their order; a few are worked on at the same time, and no more are waited for."""
    items = iter(items)
    first = list(islice(items, 2))
    if PROCESSORS == 1 or len(first) < 2:  # nothing to share out
        yield from map(function, chain(first, items))
        return
    with ONE_THREAD_EACH, ThreadPoolExecutor(PROCESSORS) as pool:
        waiting: deque[Future[T]] = deque()
        try:
            for item in chain(first, items):
                waiting.append(pool.submit(function, item))
                if len(waiting) > PROCESSORS:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            for task in waiting:
                task.cancel()
