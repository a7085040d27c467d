"""Flats of colour sensors, whatever the pattern over their pixels: each is told as the flat of a mono sensor under the same light.

Patterns of 2 × 2 after Bayer (US patent 3,971,065), and one that repeats after six pixels, five of nine pixels green, as consumer
cameras have it (common practice, no source).
"""

from __future__ import annotations

import math

import numpy as np
import pytest

from grayshelf.core.checks.defects import defects_of
from grayshelf.core.checks.dust import dust_on
from grayshelf.core.checks.figures import master_figures
from grayshelf.core.checks.looks import look_at
from grayshelf.core.checks.of_a_master import Beside, findings_of_master, look_at_master
from grayshelf.core.checks.of_a_set import Looked, findings_of_set
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.combine import CombineSettings, combine
from grayshelf.core.pictures.colours import cell_of, judged_together, shifted, side_of
from grayshelf.core.pictures.made_of import OneColour
from grayshelf.core.pictures.parts import Whole
from grayshelf.core.sensor.pairs import channels
from grayshelf.core.sensor.statistics import flat_statistics
from tests.helpers import ArraySource

SIX = "GGRGGBGGBGGRBRGRBGGGBGGRGGRGGBRBGBRG"
PATTERNS = [None, "RGGB", "GBRG", SIX, shifted(SIX, 2, 1)]
HIGH, WIDE, LEVEL = 480, 720, 24_000.0
#: What filters of each colour let through of a light.
LETS = {"R": 0.35, "G": 1.0, "B": 0.6, "": 1.0}
Y, X = np.mgrid[0:HIGH, 0:WIDE]
FALL = 1.0 - 0.3 * ((X - WIDE / 2) ** 2 + (Y - HIGH / 2) ** 2) / ((WIDE / 2) ** 2 + (HIGH / 2) ** 2)
SPECK = (200, 300)
FALL *= 1.0 - 0.12 * (np.hypot(X - SPECK[0], Y - SPECK[1]) < 16)
#: Of each colour of each pattern some, and of both greens of 2 × 2.
DEAD = [(50 + 37 * i, 60 + 53 * i) for i in range(10)]


def letters(pattern):
    """The letter of each pixel."""
    side = math.isqrt(len(pattern or " "))
    block = np.array(list(pattern or " ")).reshape(side, side)
    return np.char.strip(np.tile(block, (HIGH // side, WIDE // side)))


def flat(pattern, seed=0, level=LEVEL, lets=LETS):
    """One flat, electrons for ADU, no pedestal, some of its pixels with a third of their light."""
    through = np.vectorize(lets.get)(letters(pattern))
    light = level * FALL * through
    light[tuple(np.transpose(DEAD))] /= 3.0
    return np.random.default_rng(seed).poisson(light).astype(np.uint16)


@pytest.fixture(scope="module", params=PATTERNS, ids=lambda p: p and f"{len(p)}{p[:3]}")
def pattern(request):
    return request.param


def test_its_figures_and_defects_are_those_of_a_mono_sensor(pattern):
    figures = {f.name: f.value for f in master_figures(flat(pattern), FrameKind.FLAT, pattern)}
    mono = {f.name: f.value for f in master_figures(flat(None), FrameKind.FLAT)}
    assert figures["Dead or dim pixels"] == mono["Dead or dim pixels"] == len(DEAD)
    assert figures["Median"] == pytest.approx(mono["Median"], rel=0.002), "that of the brightest channel"
    for name in ("Corner to centre", "Weakest corner", "Spread of the pixels"):
        assert figures[name] == pytest.approx(mono[name], rel=0.02), name
    if pattern is None or side_of(pattern) == 2:
        untold = master_figures(flat(pattern), FrameKind.FLAT)
        assert {f.name: f.value for f in untold} == figures, "also where its header does not tell the pattern"
    found = defects_of(flat(pattern), FrameKind.FLAT, pattern)
    assert sorted(zip(found.row.tolist(), found.column.tolist(), strict=True)) == DEAD and found.n_hot == 0


def test_a_look_tells_its_noise_its_colours_and_no_bands(pattern):
    look = look_at(flat(pattern), 65_535, lit=True, pattern=pattern)
    brightest = np.isin(letters(pattern), ["G", ""])
    assert look.level == pytest.approx(np.median(flat(pattern)[brightest]), rel=0.002)
    of_mono = look_at(flat(None), 65_535, lit=True)
    rows, columns = look.blocks.shape
    cut = FALL[: rows * look.side, : columns * look.side].reshape(rows, look.side, columns, look.side)
    expected = cut.mean(axis=(1, 3))
    assert np.abs(look.shape_of_light / (expected / expected.mean()) - 1.0).max() < 0.02
    # Between the noise of the weakest colour and that of the brightest; a step over colours would be of thousands.
    assert 0.5 * of_mono.noise < look.noise <= 1.02 * of_mono.noise
    master = look_at_master(flat(pattern), FrameKind.FLAT, pattern=pattern)
    assert findings_of_master(flat(pattern), master, FrameKind.FLAT, Beside()) == []


def test_one_that_was_shot_through_another_filter_is_found(pattern):
    looks = [look_at(flat(pattern, i), 65_535, lit=True, pattern=pattern) for i in range(6)]
    assert findings_of_set(Looked(FrameKind.FLAT, looks, [None] * 6)) == []
    redder = flat(pattern, 9, lets=LETS | {"R": 0.40})
    looks[3] = look_at(redder, 65_535, lit=True, pattern=pattern)
    found = findings_of_set(Looked(FrameKind.FLAT, looks, [None] * 6))
    assert [f.frames for f in found] == ([] if pattern is None else [(3,)])


def test_its_master_has_norm_1_in_each_colour_and_shows_the_light_alone(pattern):
    frames = [ArraySource(flat(pattern, i, 20_000.0 + 1500 * i)) for i in range(5)]
    made = combine(frames, CombineSettings(method="mean"), scale_to_median=True, pattern=pattern)
    for letter in np.unique(letters(pattern)):
        of_colour = made.pixels[letters(pattern) == letter]
        assert float(np.median(of_colour)) == pytest.approx(1.0, abs=2e-3)
    good = np.ones((HIGH, WIDE), bool)
    good[tuple(np.transpose(DEAD))] = False
    left = made.pixels / (FALL / np.median(FALL)) - 1.0
    assert abs(float(left[good].mean())) < 2e-3 and float(left[good].std()) < 0.01


def test_the_brightest_channel_is_the_level_and_the_weakest_is_told(pattern):
    pixels, every = flat(pattern), letters(pattern)
    pixels[7, 9] = 65_535
    found = flat_statistics(pixels, 65_535, pattern)
    of_each = {
        letter: np.median(pixels[every == letter]) for letter in np.unique(every) if (every == letter).any()
    }
    # Each green of 2 × 2 stands alone.
    assert found.median == pytest.approx(max(of_each.values()), rel=0.002)
    if pattern is None:
        assert found.weakest_median is None
    else:
        assert found.weakest_median == pytest.approx(min(of_each.values()), rel=0.002)
        places = [p for group in judged_together(pattern) for p in group]
        assert len(set(places)) == len(places) == side_of(pattern) ** 2
    planes = channels(pixels, pattern)
    assert list(planes) == ([""] if pattern is None else ["R", "G", "B"])
    for letter, plane in planes.items():
        assert float(np.median(plane)) == pytest.approx(of_each[letter], rel=0.01)


def test_dust_is_found_where_it_lies(pattern):
    (shadow,) = dust_on(Whole(flat(pattern)), pattern)
    assert (shadow.x, shadow.y) == pytest.approx(SPECK, abs=3) and shadow.depth == pytest.approx(
        0.12, abs=0.02
    )


@pytest.mark.parametrize("pattern", [p for p in PATTERNS if p], ids=lambda p: f"{len(p)}{p[:3]}")
@pytest.mark.parametrize("colour", ["red", "green", "blue"])
def test_one_colour_is_seen_alone_in_any_part(pattern, colour):
    every, letter = letters(pattern), colour[0].upper()
    picture = OneColour(Whole(np.where(every == letter, 7.0, -999.0) * FALL), pattern, colour)
    cell = cell_of(pattern)
    assert (picture.height, picture.width) == (HIGH // cell, WIDE // cell)
    whole = picture.part(0, picture.height, 0, picture.width)
    assert whole.min() > 4.0, "no other colour is in it"
    assert np.array_equal(picture.part(31, 58, 41, 90), whole[31:58, 41:90])
