"""Work spread over the cores by hand, so that two processes on one machine do not get into each other's way.

The matrix libraries bring threads of their own, which wait by spinning: as soon as another process
wants a core, they lose far more than they win. Here they always have one.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache, wraps
from typing import Any, ParamSpec, TypeVar

from threadpoolctl import ThreadpoolController

from greyanchor.core.colour.colorimetry import Array

_BLOCK = 2048
_P = ParamSpec("_P")
_R = TypeVar("_R")
_here = threading.local()


@lru_cache(maxsize=1)
def _blas() -> ThreadpoolController:
    """The matrix libraries' own threads, found once: looking for them takes longer than a block."""
    return ThreadpoolController()


@lru_cache(maxsize=1)
def _pool(process: int) -> ThreadPoolExecutor:
    """The threads of this process: made once, as each new thread would hold memory of its own."""
    return ThreadPoolExecutor(os.cpu_count() or 1, thread_name_prefix=f"cores-{process}")


def one_thread(function: Callable[_P, _R]) -> Callable[_P, _R]:
    """`function`, with the matrix libraries held to one thread while it runs."""

    @wraps(function)
    def held(*args: _P.args, **kwargs: _P.kwargs) -> _R:
        with _blas().limit(limits=1):
            return function(*args, **kwargs)

    return held


def in_parallel(work: Callable[[Array], Any], values: Array, block: int = _BLOCK) -> list[Any]:
    """`work` on blocks of rows of `values` (n, ...), `block` rows each, on as many threads as there are
    cores: numpy lets go of the lock. Gives the results in order.

    Called from inside such work it goes on in the same thread, block by block.
    """
    return each(work, [values[i : i + block] for i in range(0, len(values), block)] or [values])


def each(work: Callable[[Any], Any], parts: Sequence[Any]) -> list[Any]:
    """`work` on each of `parts`, in order, on as many threads as there are cores."""
    if len(parts) == 1 or getattr(_here, "busy", False):
        return [work(part) for part in parts]

    def alone(part: Any) -> Any:
        _here.busy = True
        return work(part)

    with _blas().limit(limits=1):
        return list(_pool(os.getpid()).map(alone, parts))
