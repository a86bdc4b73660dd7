"""Queries on device values: groups of patches that a shop names itself, such as ``C >= 50 and K = 0``."""

from __future__ import annotations

import re
from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput

Mask = npt.NDArray[np.bool_]
#: values are equal when they differ by no more than this, percent
_EQUAL = 0.1
_TOKEN = re.compile(r"\s*(?:(?P<number>\d+(?:\.\d+)?)\s*%?|(?P<word>[A-Za-z]+)|(?P<sign><=|>=|!=|[<>=()]))")
_COMPARE: dict[str, Callable[[Array, Array], Mask]] = {
    "<": lambda a, b: a < b - _EQUAL,
    "<=": lambda a, b: a <= b + _EQUAL,
    ">": lambda a, b: a > b + _EQUAL,
    ">=": lambda a, b: a >= b - _EQUAL,
    "=": lambda a, b: np.abs(a - b) <= _EQUAL,
    "!=": lambda a, b: np.abs(a - b) > _EQUAL,
}


def is_query(text: str) -> bool:
    """Whether `text` asks for device values, and is not the name of a group."""
    return any(sign in text for sign in "<>=")


class Query:
    """A parsed query; `mask` applies it.

    Channels stand for their percent, ``total`` for the sum of all. Comparisons are joined by ``and``,
    ``or``, ``not`` and brackets, and may be chained: ``40 <= C <= 60``.
    """

    def __init__(self, text: str) -> None:
        self.text = text
        self._tokens = _tokens(text)
        self._at = 0
        self._tree = self._either()
        if self._at < len(self._tokens):
            raise BadInput(f"the query {text!r} goes on with {self._tokens[self._at]!r} where it should end")

    def mask(self, device: Array, channels: tuple[str, ...]) -> Mask:
        """Patches (n,) of `device` fractions (n, channels) that the query asks for."""
        values = {name: 100.0 * device[:, i] for i, name in enumerate(channels)}
        values["total"] = 100.0 * device.sum(axis=1)
        return self._tree(values, len(device))

    def check_channels(self, channels: tuple[str, ...]) -> None:
        """`BadInput` when the query speaks of a channel that is not among `channels`."""
        self.mask(np.zeros((1, len(channels))), channels)

    def _peek(self) -> str:
        return self._tokens[self._at] if self._at < len(self._tokens) else ""

    def _take(self) -> str:
        self._at += 1
        return self._tokens[self._at - 1]

    def _either(self) -> Callable[[dict[str, Array], int], Mask]:
        parts = [self._both()]
        while self._peek().lower() == "or":
            self._take()
            parts.append(self._both())
        return lambda values, n: np.any([part(values, n) for part in parts], axis=0)

    def _both(self) -> Callable[[dict[str, Array], int], Mask]:
        parts = [self._one()]
        while self._peek().lower() == "and":
            self._take()
            parts.append(self._one())
        return lambda values, n: np.all([part(values, n) for part in parts], axis=0)

    def _one(self) -> Callable[[dict[str, Array], int], Mask]:
        if self._peek().lower() == "not":
            self._take()
            inner = self._one()
            return lambda values, n: ~inner(values, n)
        if self._peek() == "(":
            self._take()
            tree = self._either()
            if self._peek() != ")":
                raise BadInput(f"a bracket stays open in the query {self.text!r}")
            self._take()
            return tree
        return self._comparison()

    def _comparison(self) -> Callable[[dict[str, Array], int], Mask]:
        sides, signs = [self._value()], []
        while self._peek() in _COMPARE:
            signs.append(self._take())
            sides.append(self._value())
        if not signs:
            raise BadInput(f"the query {self.text!r} names a value but does not compare it")

        def tree(values: dict[str, Array], n: int) -> Mask:
            found = [side(values, n) for side in sides]
            return np.all([_COMPARE[s](a, b) for s, a, b in zip(signs, found, found[1:])], axis=0)

        return tree

    def _value(self) -> Callable[[dict[str, Array], int], Array]:
        token = self._peek()
        if re.fullmatch(r"\d+(\.\d+)?", token):
            number = float(self._take())
            return lambda values, n: np.full(n, number)
        if not token or not token.isalpha() or token.lower() in ("and", "or", "not"):
            raise BadInput(f"the query {self.text!r} lacks a channel or a number after {self._before()!r}")
        name = self._take()

        def tree(values: dict[str, Array], n: int) -> Array:
            key = name if name in values else name.lower() if name.lower() == "total" else name.upper()
            if key not in values:
                raise BadInput(f"the query {self.text!r} asks for {name}; there are {', '.join(values)}")
            return values[key]

        return tree

    def _before(self) -> str:
        return " ".join(self._tokens[: self._at]) or "its beginning"


def _tokens(text: str) -> list[str]:
    if len(text) > 400:
        raise BadInput(f"the query has {len(text)} characters; up to 400 are taken")
    if text.count("(") > 20:
        raise BadInput(f"the query has {text.count('(')} brackets; up to 20 are taken")
    out, at = [], 0
    while at < len(text.rstrip()):
        found = _TOKEN.match(text, at)
        if found is None:
            raise BadInput(f"the query {text!r} cannot be understood from {text[at:].strip()!r} on")
        out.append(found.group("number") or found.group("word") or found.group("sign"))
        at = found.end()
    return out
