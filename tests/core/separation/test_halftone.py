"""Screens: the tone that is asked for, no grain that the eye sees, no seam."""

from __future__ import annotations

import numpy as np
import pytest

from greyanchor.core.errors import BadInput
from greyanchor.core.separation.halftone import blue_noise, drops
from greyanchor.core.separation.halftone.clustered import lattice, thresholds
from greyanchor.core.separation.halftone.screens import Screen, ScreenSpec, parse_screen
from greyanchor.core.separation.halftone.voidcluster import void_and_cluster

SCREENS = (
    "blue-noise",
    "diffusion",
    "am:lpi=60,angle=45,dot=round",
    "am:lpi=75,angle=15,dot=ellipse",
    "am:lpi=50,angle=75,dot=line",
    "am:lpi=60,angle=0,dot=square",
    "hybrid:lpi=60,angle=30",
    "blue-noise:drops=2",
    "blue-noise:drops=3",
    "diffusion:drops=3",
)


def flat(percent: float, side: int = 768) -> np.ndarray:
    return np.full((side, side), round(percent * 655.35), dtype=np.uint16)


def ink(screen: Screen, levels: np.ndarray) -> np.ndarray:
    """Volume of each place, the largest drop 1."""
    return np.array([0.0, *screen.volumes])[levels]


@pytest.mark.parametrize("text", SCREENS)
def test_a_flat_field_has_the_tone_asked_for(text: str) -> None:
    for percent in (0.5, 3, 12, 33, 50, 66, 88, 97, 99.5):
        screen = Screen(parse_screen(text), 600, 768)
        got = 100.0 * ink(screen, screen.levels(flat(percent))).mean()
        assert abs(got - percent) <= 0.3, percent


@pytest.mark.parametrize("text", SCREENS)
def test_paper_stays_bare_and_a_solid_is_closed(text: str) -> None:
    for percent in (0, 100):
        screen = Screen(parse_screen(text), 600, 300)
        levels = screen.levels(np.full((64, 300), percent and 65535, dtype=np.uint16))
        assert (levels == (screen.spec.sizes if percent else 0)).all()


@pytest.mark.parametrize("text", SCREENS)
def test_a_ramp_never_reverses(text: str) -> None:
    wide = 4096
    ramp = np.tile(np.linspace(0, 65535, wide).astype(np.uint16), (512, 1))
    screen = Screen(parse_screen(text), 600, wide)
    column = ink(screen, screen.levels(ramp)).mean(axis=0)
    steps = column.reshape(32, -1).mean(axis=1)
    assert (np.diff(steps) > 0).all()


@pytest.mark.parametrize("text", SCREENS)
def test_bands_meet_without_a_seam(text: str) -> None:
    random = np.random.default_rng(5)
    tones = random.integers(0, 65536, (300, 517)).astype(np.uint16)
    whole = Screen(parse_screen(text), 600, 517).packed(tones)
    banded = Screen(parse_screen(text), 600, 517)
    parts = [banded.packed(tones[a:b], a) for a, b in ((0, 40), (40, 41), (41, 200), (200, 300))]
    assert np.array_equal(np.concatenate(parts), whole)


@pytest.mark.parametrize("text", ["blue-noise", "am:lpi=85,angle=22.5", "hybrid:lpi=71,angle=7"])
def test_packed_bits_are_the_levels(text: str) -> None:
    random = np.random.default_rng(6)
    tones = random.integers(0, 65536, (70, 1003)).astype(np.uint16)
    screen = Screen(parse_screen(text), 720, 1003)
    bits = np.unpackbits(screen.packed(tones, 11), axis=1)[:, :1003]
    assert np.array_equal(bits, screen.levels(tones, 11))


def radial(pattern: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Frequency of each place of the spectrum, in cycles a dot, and its power."""
    power = np.abs(np.fft.fft2(pattern - pattern.mean())) ** 2 / pattern.size
    rows, columns = np.fft.fftfreq(pattern.shape[0]), np.fft.fftfreq(pattern.shape[1])
    return np.hypot(rows[:, None], columns[None]), power


def low_power(pattern: np.ndarray, tone: float) -> float:
    """Power below a quarter of the principal frequency (Ulichney), as a share of white noise's."""
    rare = min(tone, 1.0 - tone)
    principal = np.sqrt(rare) if rare <= 0.25 else 0.5
    frequency, power = radial(pattern)
    return float(power[(frequency > 0) & (frequency < principal / 4)].mean() / pattern.var())


@pytest.mark.parametrize("text", ["blue-noise", "diffusion"])
def test_noise_is_blue(text: str) -> None:
    for percent in (1, 2, 5, 10, 25, 40, 50, 60, 75, 90, 95, 98, 99):
        screen = Screen(parse_screen(text), 600, 768)
        levels = screen.levels(flat(percent))[256:, 256:].astype(float)
        assert low_power(levels, percent / 100.0) <= 0.05, percent


def test_diffusion_draws_no_lines_of_dots() -> None:
    """Worms would put power on single directions: no direction has much more than the others."""
    for percent in (2, 5, 33, 50, 66, 95):
        screen = Screen(parse_screen("diffusion"), 600, 768)
        frequency, power = radial(screen.levels(flat(percent))[256:, 256:].astype(float))
        rare = min(percent, 100 - percent) / 100.0
        principal = min(np.sqrt(rare), 0.5)
        ring = (frequency > 0.6 * principal) & (frequency < 1.2 * principal)
        angle = np.arctan2(*np.meshgrid(np.fft.fftfreq(512), np.fft.fftfreq(512), indexing="ij")) % np.pi
        sectors = [power[ring & (angle // (np.pi / 12) == i)].mean() for i in range(12)]
        assert max(sectors) < 3.5 * np.mean(sectors), percent


def test_edges_of_diffusion_are_no_darker_than_the_middle() -> None:
    for percent in (3, 50):
        screen = Screen(parse_screen("diffusion"), 600, 600)
        levels = screen.levels(flat(percent, 600)).astype(float)
        for edge in (levels[:24], levels[:, :24], levels[:, -24:]):
            assert abs(100.0 * edge.mean() - percent) < max(0.12 * percent, 0.7)


def test_masks_of_two_inks_do_not_beat() -> None:
    """Dots of two inks meet as often as chance has it, without a pattern of its own."""
    a = Screen(ScreenSpec(), 600, 1024, 0).levels(flat(30, 1024)).astype(float)
    b = Screen(ScreenSpec(), 600, 1024, 1).levels(flat(30, 1024)).astype(float)
    assert abs((a * b).mean() - 0.09) < 0.01
    frequency, power = radial((a * b)[:512, :512])
    assert power[(frequency > 0) & (frequency < 0.03)].mean() < 1.5 * (a * b).var()


def test_void_and_cluster_uses_every_rank_once_and_repeats_without_a_seam() -> None:
    ranks = void_and_cluster(32, 32, 4)
    assert sorted(ranks.ravel()) == list(range(1024))
    tiled = np.tile(ranks < 102, (2, 2)).astype(float)
    assert low_power(tiled[16:48, 16:48], 0.1) < 0.2
    for i in range(blue_noise.COUNT):
        assert len(np.unique(blue_noise.mask(i))) == 65536


@pytest.mark.parametrize(
    ("lines", "angle", "dpi"), [(60, 45, 600), (85, 15, 1200), (133, 75, 2400), (33.3, 7.5, 720)]
)
def test_a_supercell_has_the_frequency_and_angle_asked_for(lines, angle, dpi) -> None:
    made = lattice(lines, angle, dpi)
    assert abs(made.frequency / lines - 1) < 0.002 and abs(made.angle - angle) < 0.1
    tile, again = thresholds(lines, angle, "round", dpi)
    assert again == made and tile.size == made.a**2 + made.b**2
    # the measured spectrum of a printed tint peaks where the screen should
    screen = Screen(ScreenSpec("am", lines, angle), dpi, 1024)
    frequency, power = radial(screen.levels(flat(30, 1024)).astype(float))
    y, x = np.unravel_index(np.argmax(np.where(frequency > 0, power, 0)), power.shape)
    assert abs(frequency[y, x] * dpi / lines - 1) < 0.04
    turned = np.degrees(np.arctan2(np.fft.fftfreq(1024)[y], np.fft.fftfreq(1024)[x]))
    assert min(abs((turned - angle + 45) % 90 - 45), 90) < 2.0


def test_the_hybrid_has_no_single_dots_in_the_highlights() -> None:
    screen = Screen(parse_screen("hybrid:lpi=85,angle=45"), 1200, 768)
    levels = screen.levels(flat(1.0)).astype(bool)
    from scipy.ndimage import label

    _, spots = label(levels[50:-50, 50:-50])
    assert levels[50:-50, 50:-50].sum() / spots > 3.0, "dots stay together"
    plain = Screen(parse_screen("am:lpi=85,angle=45"), 1200, 768).levels(flat(1.0)).astype(bool)
    _, more = label(plain[50:-50, 50:-50])
    assert spots < 0.8 * more, "fewer of them instead of smaller ones"


@pytest.mark.parametrize("volumes", [(1.0,), (0.5, 1.0), (1 / 3, 2 / 3, 1.0), (0.2, 0.5, 1.0)])
def test_drop_sizes_add_up_to_the_tone(volumes) -> None:
    tone = np.linspace(0.0, 1.0, 401)
    shares = drops.coverage(tone, volumes)
    sizes = np.diff(np.array([0.0, *volumes]))
    assert np.allclose(shares @ sizes, tone, atol=1e-9)
    assert (np.diff(shares, axis=1) <= 1e-12).all() and shares.min() >= 0 and shares.max() <= 1 + 1e-12
    held = shares - np.column_stack([shares[:, 1:], np.zeros(len(tone))])
    assert ((held > 1e-9).sum(axis=1) <= 2).all(), "two neighbouring sizes at most"
    assert np.abs(np.diff(shares, axis=0)).max() < 0.03, "none comes with a step"


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("fancy", "no screen 'fancy'"),
        ("am:lpi=abc", "not a number"),
        ("am:size=3", "not understood"),
        ("am:dot=star", "no dot shape"),
        ("blue-noise:lpi=60", "not understood"),
        ("blue-noise:drops=9", "drop sizes"),
        ("am:lpi=0", "not possible"),
    ],
)
def test_a_screen_that_cannot_be_is_refused(text: str, says: str) -> None:
    with pytest.raises(BadInput, match=says):
        parse_screen(text)


def test_a_frequency_that_no_printer_resolves_is_refused() -> None:
    with pytest.raises(BadInput, match="cells 1.5 dots wide"):
        Screen(parse_screen("am:lpi=400"), 600, 100)
    with pytest.raises(BadInput, match="drop volumes rise"):
        drops.coverage(np.zeros(2), (0.5, 0.4, 1.0))


def test_inks_are_turned_against_one_another() -> None:
    asked = parse_screen("am:lpi=60,angle=45")
    angles = {c: asked.of_ink(c).angle for c in "CMYK"}
    assert angles == {"K": 45.0, "C": 15.0, "M": 75.0, "Y": 0.0}
    assert asked.of_ink("LC") == asked.of_ink("C") and parse_screen("diffusion").of_ink("C") == ScreenSpec(
        "diffusion"
    )
