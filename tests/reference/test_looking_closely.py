"""What is read of pictures, against truth known beforehand: parts and levels, dust, how light falls, whether masters serve.

Sizes are the smallest that matter (common practice, no published source). NumPy and Astropy stand beside reductions,
histograms and profiles; the geometry of shadows is that of similar triangles behind a cone of light.
"""

from __future__ import annotations

import math
import warnings
from dataclasses import replace
from datetime import date

import numpy as np
import pytest
from astropy.nddata import block_reduce
from hypothesis import given, settings
from hypothesis import strategies as st

from grayshelf.core.checks.correction import Corrects, correction_of
from grayshelf.core.checks.dust import Shadow, dust_on
from grayshelf.core.checks.dust_over_time import (
    Cleaning,
    Since,
    cleaning,
    comes_back,
    of_one_time,
    since_when,
)
from grayshelf.core.checks.dust_where import OtherFlat, Surface, distance_of, where_of
from grayshelf.core.checks.light_fall import light_change, light_fall
from grayshelf.core.checks.still_good import Serves, capped_still_good, flat_still_good
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.pictures.histogram import histogram_of
from grayshelf.core.pictures.made_of import Calibrated, OneColour, Quotient
from grayshelf.core.pictures.parts import TILE, Whole, overview_of, reduced, tile_of
from grayshelf.core.pictures.profiles import profile_of
from tests.reference import pictures_of_flats as made
from tests.told import same_as_told

SHAPE = (800, 1200)


@settings(max_examples=40, deadline=None)
@given(st.integers(1, 70), st.integers(1, 70), st.sampled_from([1, 2, 3, 4, 8]), st.integers(0, 9))
def test_a_picture_made_small_is_means_of_its_squares_also_at_the_edge_and_about_holes(h, w, factor, holes):
    pixels = np.random.default_rng(h * w).normal(1000, 30, (h, w)).astype(np.float32)
    pixels.ravel()[: holes * 3] = np.nan
    small = reduced(pixels, factor)
    padded = np.pad(pixels, ((0, -h % factor), (0, -w % factor)), constant_values=np.nan)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)
        expected = block_reduce(padded, factor, np.nanmean)
    np.testing.assert_allclose(small, expected, rtol=1e-5, equal_nan=True)


def test_tiles_of_all_levels_are_parts_of_one_picture():
    pixels = np.random.default_rng(1).normal(500, 9, (700, 1000)).astype(np.float32)
    for level in (1, 2, 4, 8):
        side = TILE * level
        rows = [
            np.hstack([tile_of(Whole(pixels), level, c, r) for c in range(math.ceil(1000 / side))])
            for r in range(math.ceil(700 / side))
        ]
        np.testing.assert_allclose(np.vstack(rows), reduced(pixels, level), rtol=1e-6)
    with pytest.raises(IndexError):
        tile_of(Whole(pixels), 1, 4, 0)


def test_levels_are_counted_as_numpy_counts_them_and_none_is_lost():
    rng = np.random.default_rng(2)
    pixels = rng.normal(1000, 12, (300, 400)).round().astype(np.float32)
    pixels[5, 5], pixels[7, :3] = 60_000, np.nan
    found = histogram_of(Whole(pixels), overview_of(Whole(pixels)), whole=True)
    edges = found.first + found.step * np.arange(len(found.counts) + 1)
    np.testing.assert_array_equal(found.counts, np.histogram(pixels[np.isfinite(pixels)], edges)[0])
    assert found.step == round(found.step)  # No bin holds more whole levels than the next.
    assert sum(found.counts) + found.below + found.above + found.unknown == pixels.size
    assert (found.lowest, found.highest, found.unknown) == (np.nanmin(pixels), 60_000, 3)
    assert found.mean == pytest.approx(np.nanmean(pixels), rel=1e-6)


def test_lines_through_a_picture():
    y, x = np.mgrid[0:200, 0:300]
    pixels = (1000.0 - 0.01 * ((x + 0.5 - 150) ** 2 + (y + 0.5 - 100) ** 2)).astype(np.float32)
    whole, small = Whole(pixels), overview_of(Whole(pixels))
    np.testing.assert_allclose(profile_of(whole, small, "row", 40).level, pixels[40], rtol=1e-6)
    np.testing.assert_allclose(
        profile_of(whole, small, "column", 7, 5).level, pixels[:, 5:10].mean(axis=1), rtol=1e-6
    )
    rings = profile_of(whole, small, "radius", 0)
    np.testing.assert_allclose(rings.level, 1000 - 0.01 * np.square(rings.at), atol=0.5)


def test_colours_apart_quotients_and_calibrated_lights():
    mosaic = np.tile(np.array([[10.0, 20.0], [30.0, 40.0]], np.float32), (4, 6))
    for colour, level in (("red", 10.0), ("green", 25.0), ("blue", 40.0)):
        one = OneColour(Whole(mosaic), "RGGB", colour)
        assert (one.height, one.width) == (4, 6) and np.all(one.part(0, 4, 0, 6) == level)
    a, b = np.full((2, 2), 300.0, np.float32), np.array([[100.0, 200.0], [0.0, 50.0]], np.float32)
    over = Quotient(Whole(a), Whole(b), 100 / 300).part(0, 2, 0, 2)
    np.testing.assert_allclose(over, [[1.0, 0.5], [np.nan, 2.0]])
    done = Calibrated(Whole(a), Whole(b), Whole(np.full((2, 2), 2.0, np.float32)), 2.0).part(0, 2, 0, 2)
    np.testing.assert_allclose(done, a - b)


@pytest.mark.parametrize(("depth", "seeds"), [(0.01, range(4)), (None, range(4, 8))])
def test_shadows_are_found_where_they_are_as_wide_and_as_deep(depth, seeds):
    missed = false = 0
    for seed in seeds:
        rng = np.random.default_rng(seed)
        true = made.specks(rng, SHAPE, 4, depth, narrowest=20, widest=170)
        found = dust_on(Whole(made.dusty_flat(rng, SHAPE, true, off=(0.04, -0.03))))
        same_as_told("pictures", f"dust, {seed}", found)
        for speck in true:
            near = [
                s for s in found if math.hypot(s.x - speck.x, s.y - speck.y) < max(0.3 * speck.diameter, 6)
            ]
            missed += not near
            if near:
                one = max(near, key=lambda s: s.diameter)
                assert math.hypot(one.x - speck.x, one.y - speck.y) <= 5.0
                assert one.diameter == pytest.approx(speck.diameter, rel=0.1)
                assert one.depth == pytest.approx(speck.depth, rel=0.2)
                found.remove(one)
        false += len(found)
    assert missed <= 1 and false <= 2


def test_a_clean_flat_has_no_dust_and_a_colour_sensor_none_for_its_pattern():
    for seed in range(4):
        rng = np.random.default_rng(100 + seed)
        flat = made.dusty_flat(rng, SHAPE, [])
        assert dust_on(Whole(flat)) == []
        flat[0::2, 0::2] *= 0.6
        flat[1::2, 1::2] *= 0.75
        assert dust_on(Whole(flat), "RGGB") == []


def test_where_a_speck_lies_is_told_by_geometry_by_filters_and_by_turning():
    # A speck of no size 10 mm before the sensor at f/5 has a shadow of 2 mm: 500 pixels of 4 µm (similar triangles).
    distance = distance_of(500.0, 4.0, 5.0)
    same_as_told(
        "pictures", "distances", [distance, distance_of(30.0, 3.8, 2.2), distance_of(5.0, 9.0, 10.0)]
    )
    assert distance.most_mm == pytest.approx(10.0) and distance.least_mm == pytest.approx(9.5)
    speck, size = Shadow(900.0, 300.0, 140.0, 0.05), (1600, 1000)
    far = distance_of(900.0, 4.0, 5.0)
    other = [OtherFlat("L", 0.0, [Shadow(200.0, 200.0, 60.0, 0.1)]), OtherFlat("R", 0.0, [])]
    assert where_of(speck, size, "Ha", other, far).surface is Surface.FILTER
    seen = [OtherFlat("L", 0.0, [Shadow(902.0, 301.0, 143.0, 0.05)])]
    assert where_of(speck, size, "Ha", seen, far).surface is Surface.NOT_FILTER
    assert where_of(speck, size, "Ha", seen, distance_of(140.0, 4.0, 5.0)).surface is Surface.WINDOW
    # Turned by 90° about (800, 500): (900, 300) comes to (1000, 600), or to (600, 400) where angles run the other way.
    for x, y in ((1000.0, 600.0), (600.0, 400.0)):
        turned = [OtherFlat("Ha", 90.0, [Shadow(x, y, 140.0, 0.05)])]
        assert where_of(speck, size, "Ha", turned, far).surface is Surface.TELESCOPE_SIDE
    stays = [OtherFlat("Ha", 90.0, [Shadow(900.0, 300.0, 140.0, 0.05)])]
    assert where_of(speck, size, "Ha", stays, far).surface is Surface.CAMERA_SIDE
    assert where_of(speck, size, None, [], None).surface is Surface.UNKNOWN


def test_dust_over_the_months():
    own = [Shadow(300.0, 200.0, 60.0, 0.08), Shadow(900.0, 500.0, 150.0, 0.04)]
    nights = [date(2026, 8, 1), date(2026, 9, 1), date(2026, 10, 1)]
    both, one = own, own[:1]
    assert since_when(own[1], list(zip(nights, (one, both, both), strict=True))) == Since(
        nights[0], nights[1]
    )
    assert since_when(own[1], [(nights[2], one)]) == Since(nights[2], None)
    assert since_when(own[0], [(n, both) for n in nights]) == Since(None, nights[0])
    assert since_when(own[0], []) == Since(None, None)
    there, new = Since(None, nights[0]), Since(nights[2], None)
    assert cleaning([], []) is Cleaning.NOTHING and cleaning(own, [there, there]) is Cleaning.WHEN_CONVENIENT
    assert cleaning(own, [there, new]) is Cleaning.NEW
    assert cleaning([Shadow(1.0, 1.0, 60.0, 0.31)], [there]) is Cleaning.SOON
    moved = [Shadow(s.x + 0.15 * s.diameter, s.y, s.diameter, s.depth) for s in own]
    assert comes_back(own, [own, own]) and not comes_back(own, [moved]) and comes_back(own, [moved[:1]])
    assert of_one_time(nights[0], date(2026, 8, 22)) and not of_one_time(nights[0], date(2026, 8, 23))
    assert not of_one_time(None, nights[0])


def test_how_light_falls_and_what_changed():
    y, x = np.mgrid[0:600, 0:900]
    half = math.hypot(900, 600) / 2

    def flat(cx, cy, slope=0.0):
        fall = 1 - 0.3 * ((x - cx) ** 2 + (y - cy) ** 2) / half**2
        noise = np.random.default_rng(3).normal(1, 0.006, fall.shape)
        return (20_000 * fall * (1 + slope * (x / 900 - 0.5)) * noise).astype(np.float32)

    before = light_fall(flat(490.0, 280.0), 1)
    assert before.middle == pytest.approx((490.0, 280.0), abs=6.0)
    assert before.off_percent == pytest.approx(100 * math.hypot(40, 20) / half, abs=1.2)
    assert dict(before.rings)[0.5] == pytest.approx(92.5, abs=0.7)
    corner = 100 * (1 - 0.3 * ((0.034 * 900 - 490) ** 2 + (0.034 * 600 - 280) ** 2) / half**2)
    assert before.corners[0] == pytest.approx(corner, abs=1.5)
    # First row left and right, last row left and right: the middle lies right of and above the sensor's.
    first_left, first_right, last_left, last_right = before.corners
    assert last_left < min(first_left, last_right) and max(first_left, last_right) < first_right
    # Where it falls to 90 % by the sum above: 0.3·r² = 0.1.
    contours = dict(before.contours)
    assert contours[90] == pytest.approx(half * math.sqrt(1 / 3), rel=0.03)
    assert contours[95] == pytest.approx(half * math.sqrt(1 / 6), rel=0.04) and 50 not in contours
    same = light_change(light_fall(flat(490.0, 280.0), 1), before)
    after = light_fall(flat(430.0, 280.0, 0.02), 2)
    other = light_change(replace(after, middle=(after.middle[0] / 2, after.middle[1] / 2)), before)
    same_as_told("pictures", "light falls", [before, after, other])
    assert same.percent < 0.1 and other.percent > 2.0 and other.middle_moved_px == pytest.approx(60, abs=15)
    even = light_fall(np.random.default_rng(4).normal(20_000, 90, (600, 900)).astype(np.float32), 1)
    assert even.middle is None


@pytest.mark.parametrize("shape", [(8, 8), (16, 200), (60, 900), (900, 60), (12, 1000)])
def test_the_corners_of_a_strip_and_of_a_few_pixels_are_told_too(shape):
    height, width = shape
    y, x = np.mgrid[0:height, 0:width]
    # Darker to the right by a fifth, and downwards by a tenth.
    flat = 20_000 * (1 - 0.2 * x / width) * (1 - 0.1 * y / height)
    of_flat = light_fall(flat.astype(np.float32), 1).corners
    left, right, last_left, last_right = (of_flat[i] / of_flat[0] for i in range(4))
    assert left == 1.0 and right == pytest.approx(0.8, abs=0.06)
    assert last_left == pytest.approx(0.9, abs=0.06) and last_right == pytest.approx(0.72, abs=0.07)


def test_a_flat_of_hardly_any_pixels_is_refused_in_words():
    for shape in ((1, 50), (2, 2)):
        with pytest.raises(GrayShelfError, match="too few pixels"):
            light_fall(np.full(shape, 20_000, np.float32), 1)


def test_a_dark_serves_as_long_as_its_hot_pixels_do():
    rng, shape = np.random.default_rng(5), (500, 700)
    where = rng.choice(500 * 700, 3000, replace=False)
    value = rng.lognormal(5.5, 0.8, 3000)
    old = made.dark(rng, shape, (where, value))
    for changed, serves in ((0, Serves.GOOD), (300, Serves.CARE), (900, Serves.ANEW)):
        now = value.copy()
        now[:changed] = 0.0
        for frames, warm in ((30, 1.0), (1, 1.0), (30, 1.4)):
            fresh = made.dark(rng, shape, (where, now), frames=frames, warm=warm)
            found = capped_still_good(old, fresh, FrameKind.DARK)
            assert found.serves is serves, (changed, frames, warm, found)
            assert found.size == pytest.approx(changed / 30, abs=2.0)
            same_as_told("pictures", f"dark with {changed} changed, {frames} frames, warm {warm}", found)
    told: list[float] = []
    fresh = made.dark(rng, shape, (where, value), level=540.0)
    moved = capped_still_good(old, fresh, FrameKind.DARK, told.append)
    assert told == sorted(told) and 0.0 < told[0] < told[-1] <= 1.0
    assert moved.serves is Serves.CARE and "+40 ADU" in moved.line
    same_as_told("pictures", "dark that moved", moved)


def test_a_flat_serves_until_light_or_dust_moved():
    rng = np.random.default_rng(6)
    on_it = made.specks(rng, SHAPE, 3, 0.06, 40, 90)
    pixels = rng.standard_normal(SHAPE) * 0.01

    def flat(on, slope=0.0):
        f = made.illumination(SHAPE, np.random.default_rng(0))
        for s in on:
            f = f * made.shadow(SHAPE, s, 0.08)
        f = f * (1 + slope * np.linspace(-0.5, 0.5, SHAPE[1])) * (1 + pixels)
        f = f * rng.normal(1, 0.006, SHAPE)
        return f / np.median(f)

    old = flat(on_it)

    def held(new):
        return flat_still_good((new / old).astype(np.float32), 1)

    assert held(flat(on_it)).serves is Serves.GOOD
    tilted = held(flat(on_it, 0.01))
    assert tilted.serves is Serves.CARE and tilted.size == pytest.approx(1.0, abs=0.25)
    moved = held(flat([on_it[0]._replace(x=on_it[0].x + 25), *on_it[1:]]))
    assert moved.serves is Serves.ANEW and len(moved.shadows) == 1, "one speck, whatever crescents it leaves"
    assert "at one place a shadow came, went or moved" in moved.line
    two = held(
        flat([on_it[0]._replace(x=on_it[0].x + 25), *on_it[1:2], on_it[2]._replace(y=on_it[2].y + 90)])
    )
    assert len(two.shadows) in (2, 3) and "places shadows came, went or moved" in two.line
    less_one = (flat(on_it[1:]) / old).astype(np.float32)
    gone = flat_still_good(less_one, 1)
    (at,) = gone.shadows
    assert at.diameter == pytest.approx(on_it[0].diameter, rel=0.25)
    assert math.hypot(at.x - on_it[0].x, at.y - on_it[0].y) < 5 and gone.serves is Serves.ANEW
    same_as_told("pictures", "flats that serve or not", [held(flat(on_it)), tilted, moved, gone])
    # Of a picture made small it is told at its own size.
    twice = flat_still_good(less_one, 2).shadows[0]
    assert (twice.x, twice.y, twice.diameter, twice.depth) == (2 * at.x, 2 * at.y, 2 * at.diameter, at.depth)


@pytest.mark.parametrize("gradient", [0.0, 0.3, -0.5])
@pytest.mark.parametrize(
    ("error", "says"),
    [
        ("none", Corrects.YES),
        ("pedestal left in the light", Corrects.TOO_MUCH),
        ("pedestal left in the flat", Corrects.TOO_LITTLE),
        ("flat over-subtracted", Corrects.TOO_MUCH),
    ],
)
def test_what_is_left_of_a_flat_has_the_sign_of_the_mistake_whatever_the_sky(error, says, gradient):
    rng = np.random.default_rng(7)
    found = correction_of(*made.calibrated_light(rng, SHAPE, error, gradient))
    assert found is not None and found.corrects is says
    same_as_told("pictures", f"{error}, gradient {gradient}", found)
    if says is Corrects.YES:
        assert found.least <= 0.003 and abs(found.slope) < 0.01 and abs(found.corner_percent) < 0.5
        assert found.corner_raw_percent < -20
    else:
        assert found.least * found.most > 0
        assert (found.corner_percent > 0) == (says is Corrects.TOO_MUCH)


def test_a_nebula_over_much_of_the_picture_is_no_answer():
    rng = np.random.default_rng(8)
    found = correction_of(*made.calibrated_light(rng, SHAPE, "none", 0.2, nebula=0.4))
    assert found is not None and found.corrects is Corrects.UNSURE
    same_as_told("pictures", "a nebula", found)
    even = np.full(SHAPE, 900, np.float32) + rng.normal(0, 5, SHAPE).astype(np.float32)
    assert correction_of(even, even, np.ones(SHAPE, np.float32)) is None
