"""What a process remembers of records that never change, also when many threads ask at once."""

from __future__ import annotations

import sys
from concurrent.futures import ThreadPoolExecutor
from threading import Barrier

import pytest

from greyanchor.measuring import cache


@pytest.fixture(autouse=True)
def empty() -> None:
    cache._values.clear()


def test_a_process_remembers_what_it_used_last() -> None:
    made: list[int] = []

    def make(n: int) -> int:
        made.append(n)
        return n

    for n in range(cache.SIZE + 1):
        cache.remembered(("test", n), lambda n=n: make(n))
    cache.remembered(("test", cache.SIZE), lambda: make(-1))
    assert -1 not in made, "the newest is still there"
    cache.remembered(("test", 0), lambda: make(-2))
    assert made[-1] == -2, "the oldest was forgotten"


def test_six_threads_that_crowd_it_are_all_answered() -> None:
    threads, rounds, keys = 6, 4000, 2 * cache.SIZE
    together = Barrier(threads)
    often = sys.getswitchinterval()

    def ask(number: int) -> int:
        together.wait()
        right = 0
        for n in range(rounds):
            key = (n * (number + 1) + number) % keys
            right += cache.remembered(("crowd", key), lambda key=key: [key]) == [key]
        return right

    sys.setswitchinterval(1e-6)
    try:
        with ThreadPoolExecutor(threads) as pool:
            assert sum(pool.map(ask, range(threads))) == threads * rounds
    finally:
        sys.setswitchinterval(often)
    assert len(cache._values) == cache.SIZE


def test_threads_that_make_the_same_value_are_given_one() -> None:
    together = Barrier(6)

    def ask(_: int) -> object:
        return cache.remembered(("same",), lambda: (together.wait() and object()) or object())

    with ThreadPoolExecutor(6) as pool:
        assert len(set(map(id, pool.map(ask, range(6))))) == 1
