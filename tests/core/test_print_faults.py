"""Pictures of whole prints: true colours where nothing is wrong, and each fault where its setting is."""

from __future__ import annotations

import numpy as np
import pytest

from greyanchor.core.colour.colorimetry import lab_to_srgb, spectra_to_lab
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.simulation.catalogue import press_for
from greyanchor.core.simulation.machine import Mechanics
from greyanchor.core.simulation.print_faults import HEAD_MM, seen_print

MACHINE = Mechanics("PT-0044", "Harbour Proof Semimatt 235", 240.0)


def environment(**changes: object) -> PrintEnvironment:
    facts = {
        "printer": "Petrel 44", "ink_set": "Petrel aqueous CMYK", "media": "Harbour Proof Semimatt 235",
        "resolution": 600, "passes": 8, **changes,
    }  # fmt: skip
    return PrintEnvironment(**facts)  # type: ignore[arg-type]


def right() -> dict[str, float]:
    return {key: MACHINE.right(key) for key in ("feed", "alignment")}


def halves(amount: float = 0.4, shape: tuple[int, int] = (300, 200)) -> np.ndarray:
    raw = np.zeros((*shape, 4))
    raw[:, shape[1] // 2 :, 1] = amount
    return raw


def test_a_print_with_everything_right_has_the_press_s_colours() -> None:
    press = press_for(environment())
    seen = seen_print(press, halves(), 0.5, MACHINE, right())
    colours = lab_to_srgb(spectra_to_lab(press.spectra(np.array([[0, 0, 0, 0], [0, 0.4, 0, 0]], float))))
    for half, colour in zip((seen[:, :90], seen[:, 110:]), colours):
        assert np.abs(half / 255.0 - colour).max() < 0.01


@pytest.mark.parametrize("way", [-1.0, 1.0])
def test_a_wrong_feed_draws_a_line_at_each_advance(way: float) -> None:
    press = press_for(environment())
    wrong = {**right(), "feed": MACHINE.right("feed") + way * 0.15}
    seen = seen_print(press, halves(), 0.5, MACHINE, wrong).astype(float)
    lines = seen[:, 150:, 1].mean(axis=1) - np.median(seen[:, 150:, 1])
    advance = HEAD_MM / 8 / 0.5
    peaks = np.flatnonzero(np.abs(lines) > 0.3 * np.abs(lines).max())
    starts = peaks[np.r_[True, np.diff(peaks) > 2]]
    assert len(starts) == len(seen) / advance and np.abs(np.diff(starts) - advance).max() <= 1.0
    assert np.sign(lines[peaks]).tolist() == [way] * len(peaks), "too much feed parts the strips"
    assert np.abs(seen[:, :80] - seen[0, 0]).max() <= 1.0, "bare media has no lines"


def test_both_directions_double_an_edge_when_they_miss() -> None:
    wrong = {**right(), "alignment": MACHINE.right("alignment") + 60.0}

    def width(direction: str, handling: dict[str, float]) -> int:
        seen = seen_print(press_for(environment(direction=direction)), halves(), 0.1, MACHINE, handling)
        row = seen[50, :, 1].astype(float)
        ends = row[0], row[-1]
        return int(((row < ends[0] - 2) & (row > ends[1] + 2)).sum() + (row <= ends[1] + 2).sum())

    assert width("one way", wrong) == width("one way", right())
    assert abs(width("both ways", wrong) - width("both ways", right())) >= 2


def test_too_much_ink_spoils_a_print_and_only_where_it_lies() -> None:
    press = press_for(environment(passes=2))
    raw = np.zeros((200, 300, 4))
    raw[:, :100, 1], raw[:, 200:] = 0.3, 1.0
    seen = seen_print(press, raw, 0.5, MACHINE, right()).astype(float)
    calm, spoiled = seen[20:180, 10:80], seen[20:180, 220:290]
    assert calm.std(axis=(0, 1)).max() < 1.0
    assert spoiled.std(axis=(0, 1)).max() > 5.0
    again = seen_print(press, raw, 0.5, MACHINE, right()).astype(float)
    assert (again == seen).all(), "the same print looks the same whenever it is looked at"


def test_heavy_ink_across_a_wide_print_lifts_the_media_in_its_middle() -> None:
    """Scuffing that no chart shows: it needs width, much ink and little vacuum."""
    raw = np.zeros((120, 300, 4))
    raw[30:90] = (0.7, 0.6, 0.5, 0.2)
    press = press_for(environment())

    def hit(width_mm: float, vacuum: float) -> np.ndarray:
        loose, held = (
            seen_print(press, raw, width_mm / 300, MACHINE, {"vacuum": v}).astype(int) for v in (vacuum, 80.0)
        )
        return np.abs(loose - held).max(axis=2)

    wide = hit(1100.0, 30.0)
    assert wide[30:90, 120:180].max() > 20, "the middle is scuffed"
    assert not wide[30:90, :40].any() and not wide[:25].any(), "the edges and bare media are not"
    assert not hit(300.0, 30.0).any(), "a narrow print does not lift"
    assert not hit(1100.0, 80.0).any(), "vacuum holds it"


def test_feed_that_fits_at_first_leaves_lines_after_some_length() -> None:
    press = press_for(environment())
    raw = np.full((1000, 8, 4), 0.25)
    seen = seen_print(press, raw, 4.0, MACHINE, {"feed": right()["feed"]}).astype(float).mean(axis=(1, 2))
    assert seen[:250].std() < 0.5 * seen[700:].std(), "the fourth metre has lines, the first has none"


def test_the_beginning_is_deformed_where_it_lay_on_the_heater() -> None:
    press = press_for(environment())
    raw = np.full((200, 60, 4), 0.2)
    hot = seen_print(press, raw, 1.0, MACHINE, {"heat_before": 65.0}).astype(int)
    cold = seen_print(press, raw, 1.0, MACHINE, {"heat_before": 30.0}).astype(int)
    assert np.abs(hot - cold)[:20].max() > 5
    assert np.abs(hot - cold)[150:].max() <= 1, "media that is advanced first comes out flat"
