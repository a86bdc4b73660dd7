"""The examples in docstrings of the core do what they say."""

from __future__ import annotations

import doctest
import importlib
import pkgutil

import pytest

import greyanchor.core

MODULES = sorted(m.name for m in pkgutil.walk_packages(greyanchor.core.__path__, "greyanchor.core."))
FINDER = doctest.DocTestFinder(exclude_empty=True)


def examples(name: str) -> list[doctest.DocTest]:
    return [t for t in FINDER.find(importlib.import_module(name)) if t.examples]


@pytest.mark.parametrize("name", [name for name in MODULES if examples(name)])
def test_examples_do_what_they_say(name: str) -> None:
    for one in examples(name):
        runner = doctest.DocTestRunner(verbose=False)
        found: list[str] = []
        runner.run(one, out=found.append)
        assert runner.failures == 0, "".join(found)


def test_the_functions_that_one_meets_first_have_an_example() -> None:
    assert sum(len(examples(name)) for name in MODULES) >= 30
