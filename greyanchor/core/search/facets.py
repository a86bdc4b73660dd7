"""Narrowing many records by many facets at once, with counts, and text search that forgives typing."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
from rapidfuzz import process
from rapidfuzz.distance import OSA

Mask = npt.NDArray[np.bool_]
_WORD = re.compile(r"[0-9a-z]+(?:\.[0-9]+)?")


@dataclass(frozen=True)
class Narrowed:
    """Rows that meet every choice, and for each facet how many would be left by code."""

    mask: Mask
    counts: dict[str, npt.NDArray[np.int64]]


def narrow(
    columns: Mapping[str, npt.NDArray[np.int64]],
    chosen: Mapping[str, Sequence[int]],
    within: Mask | None = None,
) -> Narrowed:
    """Narrow rows by codes: within a facet any of the chosen codes will do, between facets all must hold.

    `columns` are codes from 0 by facet, (n,) each; -1 stands for "none". Counts of a facet heed every
    other facet and `within`, not its own choices, so that they say what a choice would leave.

    >>> columns = {"site": np.array([1, 1, 2]), "state": np.array([1, 2, 2])}
    >>> narrow(columns, {"site": [1]}).mask.tolist()
    [True, True, False]
    """
    rows = len(next(iter(columns.values()))) if columns else 0
    held = {f: np.isin(columns[f], list(codes)) for f, codes in chosen.items() if codes}
    broken = np.zeros(rows, dtype=np.int16)
    for mask in held.values():
        broken += ~mask
    if within is not None:
        broken += ~within
    counts = {}
    for facet, codes in columns.items():
        others = broken - ~held[facet] if facet in held else broken
        left = codes[(others == 0) & (codes >= 0)]
        size = int(codes.max(initial=-1)) + 1
        counts[facet] = np.bincount(left, minlength=size)
    return Narrowed(broken == 0, counts)


def words_of(text: str) -> list[str]:
    """Lower-case words and numbers of a text, without accents.

    >>> words_of("Harbour  Proof, 235 g")
    ['harbour', 'proof', '235', 'g']
    """
    plain = unicodedata.normalize("NFKD", text.casefold())
    return _WORD.findall("".join(c for c in plain if not unicodedata.combining(c)))


@dataclass
class Found:
    """Score by row (0 where nothing matched), and what was taken for words that nobody wrote."""

    scores: npt.NDArray[np.float64]
    taken_for: dict[str, str] = field(default_factory=dict)


class WordIndex:
    """Words of many texts; a text can be replaced without the others being read again."""

    def __init__(self) -> None:
        self._rows: dict[str, dict[int, float]] = {}
        self._words: dict[int, dict[str, float]] = {}

    def put(self, row: int, texts: Sequence[tuple[str, float]]) -> None:
        """Index `texts` with their weights as row `row`, in place of what it had."""
        weights: dict[str, float] = {}
        for text, weight in texts:
            for word in words_of(text):
                weights[word] = max(weight, weights.get(word, 0.0))
        old = self._words.get(row, {})
        if old == weights:
            return
        for word in old.keys() - weights.keys():
            rows = self._rows[word]
            del rows[row]
            if not rows:
                del self._rows[word]
        for word, weight in weights.items():
            self._rows.setdefault(word, {})[row] = weight
        self._words[row] = weights

    def find(self, query: str, rows: int) -> Found:
        """Rows (of `rows`) that hold every word of `query`, or words like them."""
        scores, taken = np.ones(rows), {}
        typed = words_of(query)
        for word in typed:
            hits = self._hits(word)
            if not hits:
                hits = self._alike(word)
                if hits:
                    taken[word] = max(hits, key=lambda w: (hits[w], len(self._rows[w]), w))
            best = np.zeros(rows)
            for found, weight in hits.items():
                held = self._rows[found]
                at = np.fromiter(held.keys(), dtype=np.int64, count=len(held))
                value = weight * np.fromiter(held.values(), dtype=float, count=len(held))
                best[at] = np.maximum(best[at], value)
            scores = np.where(best > 0, scores * best, 0.0)
        return Found(scores, taken)

    def _hits(self, word: str) -> dict[str, float]:
        out = {}
        for known in self._rows:
            if word in known:
                out[known] = 3.0 if known == word else 2.0 if known.startswith(word) else 1.2
        return out

    def _alike(self, word: str) -> dict[str, float]:
        """Words within one slip (two from seven letters on): a letter more, less, other, or two exchanged."""
        if len(word) < 4 or word.isdecimal():
            return {}
        most = 1 if len(word) < 7 else 2
        found = process.extract(word, self._rows.keys(), scorer=OSA.distance, score_cutoff=most, limit=40)
        if not found:  # the beginning of a longer word, with a slip
            heads: dict[str, list[str]] = {}
            for known in self._rows:
                if len(known) > len(word):
                    heads.setdefault(known[: len(word)], []).append(known)
            near = process.extract(word, heads.keys(), scorer=OSA.distance, score_cutoff=1, limit=10)
            return {k: 0.5 for head, _, _ in near for k in heads[head]}
        closest = min(distance for _, distance, _ in found)
        return {known: 1.0 / (1.0 + distance) for known, distance, _ in found if distance == closest}
