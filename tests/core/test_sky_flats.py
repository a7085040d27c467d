"""Flats of the sky as frames: their sets, what is taken off them, and the light to expect of a twilight."""

from __future__ import annotations

import math
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from grayshelf.core.flats.sky import light as sky_light
from grayshelf.core.flats.sky.light import SkyCourse, SkyOptics
from grayshelf.core.flats.sky.plan import lay_out, lay_out_again, window_of
from grayshelf.core.flats.sky.twilight import Fade, SkySeries, SkyShot
from grayshelf.core.frames.changing_light import follows_the_light
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind, is_of_the_sky
from grayshelf.core.frames.sets import Member, common_facts, group_into_sets
from grayshelf.core.frames.write import frame_header, write_frame
from grayshelf.core.matching.match import pull_slip
from grayshelf.core.matching.model import CommonSettings, Holding, Verdict
from grayshelf.demo.rigs import MODELS
from tests.helpers import facts_of

FLAT = FrameFacts(
    100, 80, 16, FrameKind.FLAT, camera="C", exposure_s=2.0, gain=100.0, offset=30.0, binning_x=1, binning_y=1,
    filter_code="L", telescope="T", utc=datetime(2026, 10, 18, 17, tzinfo=UTC), night=date(2026, 10, 18),
)  # fmt: skip


def test_frames_of_the_sky_are_one_set_whatever_their_exposures():
    exposures = [2.0, 2.31, 2.67, 3.1]
    of_sky = [Member(i, replace(FLAT, exposure_s=t, of_sky=True)) for i, t in enumerate(exposures)]
    of_panel = [Member(9 + i, replace(FLAT, exposure_s=t)) for i, t in enumerate(exposures)]
    sets = group_into_sets([*of_sky, *of_panel])
    assert sorted(len(s) for s in sets) == [1, 1, 1, 1, 4]
    four = next(s for s in sets if len(s) == 4)
    assert common_facts([m.facts for m in four]).exposure_s == pytest.approx(2.49)


def flats_of(exposures_s, every_s=25.0, first=FLAT.utc):
    return [
        replace(FLAT, exposure_s=t, utc=first + timedelta(seconds=every_s * i))
        for i, t in enumerate(exposures_s)
    ]


@pytest.mark.parametrize(
    ("exposures_s", "sizes"),
    [
        # Dusk and dawn; a star or a cloud turns a step; the first ones at the shortest exposure that the camera has.
        ([3.2, 3.8, 4.5, 5.4, 6.4], [5]),
        ([14.0, 11.9, 10.1, 8.2, 7.0, 6.1], [6]),
        ([2.0, 2.31, 2.67, 2.6, 3.1, 3.6, 4.15], [7]),
        ([1.0, 1.0, 1.0, 1.12, 1.3, 1.55, 1.8], [7]),
        # A panel: one exposure, its test shots before it, two exposures, a ladder for the gain, too few to say.
        ([0.8] * 12, [12]),
        ([1.0, 4.0, 2.0, 2.5] + [2.4] * 10, [1, 1, 1, 1, 10]),
        ([1.0, 2.0, 3.0] + [2.4] * 3, [1, 1, 1, 3]),
        ([1.0] * 5 + [2.0] * 5, [5, 5]),
        ([0.5, 1.0, 2.0, 4.0, 8.0], [1] * 5),
        ([1.0, 1.0, 1.1, 1.1, 1.2, 1.2, 1.0, 1.1, 1.2], [3, 3, 3]),
        ([2.0, 2.3], [1, 1]),
    ],
)
def test_flats_that_follow_a_fading_light_are_one_set_though_no_header_says_so(exposures_s, sizes):
    """Twilight flats as other programs write them: IMAGETYP says FLAT (common practice, no source)."""
    members = [Member(i, f) for i, f in enumerate(flats_of(exposures_s))]
    for _ in range(2):
        assert sorted(len(s) for s in group_into_sets(members)) == sizes
        members.reverse()
    if len(sizes) == 1 and len(set(exposures_s)) > 1:
        common = common_facts([m.facts for m in members])
        assert common.of_sky and common.exposure_s == np.median(exposures_s)


def test_flats_within_a_second_of_a_clock_without_fractions_are_in_the_order_of_their_light():
    members = [
        Member(i, f) for i, f in enumerate(flats_of([0.3, 0.34, 0.39, 0.45, 0.52, 0.6, 0.7], every_s=0.7))
    ]
    coarse = [replace(m, facts=replace(m.facts, utc=m.facts.utc.replace(microsecond=0))) for m in members]
    assert len({m.facts.utc for m in coarse}) == 5
    for _ in range(2):
        assert [len(s) for s in group_into_sets(coarse)] == [7]
        coarse.reverse()


def test_dusk_and_dawn_are_a_set_each_and_flats_of_a_panel_in_the_same_night_another():
    dusk, dawn = (
        flats_of([2.0, 2.4, 2.9, 3.4]),
        flats_of([9.0, 7.6, 6.1], first=FLAT.utc + timedelta(hours=12)),
    )
    panel = flats_of([3.0] * 3, first=FLAT.utc + timedelta(hours=5)) + flats_of(
        [3.0] * 2, first=FLAT.utc + timedelta(hours=8)
    )
    sets = group_into_sets([Member(i, f) for i, f in enumerate([*dusk, *dawn, *panel])])
    assert sorted([m.frame_id for m in s] for s in sets) == [[0, 1, 2, 3], [4, 5, 6], [7, 8, 9, 10, 11]]


@pytest.mark.parametrize("text", ["Sky Flat", "SKYFLAT", "twilight flat", "Master Sky Flat"])
def test_headers_say_that_a_flat_is_of_the_sky(text):
    # Spellings in use at observatories (common practice): SKYFLAT, 'Twilight Flat'.
    assert is_of_the_sky(text)
    assert not is_of_the_sky("Flat Field") and not is_of_the_sky("Sky")


def test_what_is_written_is_read_back(tmp_path):
    for facts in (replace(FLAT, of_sky=True), FLAT, replace(FLAT, of_sky=True, is_master=True, n_combined=9)):
        path = tmp_path / "frame.fits"
        with path.open("wb") as stream:
            write_frame(stream, np.full((80, 100), 900, np.uint16), frame_header(facts))
        again = facts_of(path)
        assert (again.kind, again.of_sky, again.is_master) == (facts.kind, facts.of_sky, facts.is_master)


def test_a_bias_is_taken_off_flats_of_the_sky_and_dark_flats_are_not_asked_for():
    common = CommonSettings("C", 100, 80, (1, 1), gain=100.0, offset=30.0, night=date(2026, 10, 18))
    lights = replace(common, exposure_s=300.0, sensor_temp_c=-10.0, telescope="T", filter_code="L")
    flat = Holding("1", FrameKind.FLAT, replace(lights, exposure_s=2.5, exposures_differ=True), 25)
    dark_flat = Holding("2", FrameKind.DARK_FLAT, replace(common, exposure_s=2.5, sensor_temp_c=-10.0), 25)
    bias = Holding("3", FrameKind.BIAS, replace(common, sensor_temp_c=-10.0), 50)
    kinds = {line.kind: line for line in pull_slip(lights, [flat, dark_flat, bias]).lines}
    assert kinds[FrameKind.BIAS].chosen.holding is bias
    assert "exposure of its own" in kinds[FrameKind.BIAS].note
    assert FrameKind.DARK_FLAT not in kinds, "a dark flat of one exposure fits none of the others"
    without = {line.kind: line for line in pull_slip(lights, [flat, dark_flat]).lines}
    assert without[FrameKind.BIAS].verdict is Verdict.NOTHING
    built = replace(flat, pedestal_taken_off=True)
    taken = {line.kind: line for line in pull_slip(lights, [built]).lines}
    assert taken[FrameKind.BIAS].verdict is Verdict.FITS


def test_the_sky_fades_as_published():
    # Tyson & Gal 1993, AJ 105, 1206 (from memory): 0.094 in the decimal logarithm a minute, over the relative length of
    # twilight; where the sun sinks straight down it loses a quarter of a degree a minute.
    a_minute = sky_light.relative_log_light(np.array([-5.0, -5.25]))
    assert (a_minute[0] - a_minute[1]) / math.log(10) == pytest.approx(0.094)
    # At 53° north in October twilight is 1.7 times as long: about ×0.88 a minute.
    assert math.exp(-(a_minute[0] - a_minute[1]) / 1.7) == pytest.approx(0.88, abs=0.01)


def test_the_light_in_a_pixel_follows_pixel_focal_ratio_filter_and_binning():
    rate = sky_light.anchor_rate_e_s(300.0, 3.9, 5.5)
    # By hand: 11.84 mag is 1.84e-5 of 1e4 photons/s/cm²/nm; 300 nm; π/4·(3.9e-4 cm·206265/5.5)²; 0.4 of them count.
    assert rate == pytest.approx(1.84e-5 * 1e4 * 300 * 0.7854 * (3.9e-4 * 206265 / 5.5) ** 2 * 0.4, rel=0.01)
    assert sky_light.anchor_rate_e_s(300.0, 7.8, 5.5) == pytest.approx(4 * rate)
    assert sky_light.anchor_rate_e_s(300.0, 3.9, 11.0) == pytest.approx(rate / 4)
    assert sky_light.anchor_rate_e_s(3.0, 3.9, 5.5, binning=2) == pytest.approx(rate / 25)
    assert sky_light.filter_width_nm("Ha", 3.0, colour=False) == 3.0
    assert sky_light.filter_width_nm("none", None, colour=True) == sky_light.CHANNEL_WIDTH_NM


def wish(code: str, scale: float, count: int = 10) -> SkySeries:
    return SkySeries(code, count, 29_000.0, 2_900.0, 65_000.0, 0.5, 30.0, scale)


def course(per_min: float, minutes: float = 240.0) -> SkyCourse:
    times = np.arange(0.0, minutes * 60.0 + 1.0, 60.0)
    return SkyCourse(times, -per_min / 60.0 * (times - times[-1] / 2.0))


@settings(max_examples=80)
@given(
    per_min=st.floats(0.08, 0.35),
    scales=st.lists(st.floats(10.0, 50_000.0), min_size=1, max_size=7),
    count=st.integers(1, 40),
    dawn=st.booleans(),
    late=st.floats(0.0, 14_000.0),
)
def test_a_layout_keeps_to_the_windows_and_shoots_one_thing_at_a_time(per_min, scales, count, dawn, late):
    sky = course(-per_min if dawn else per_min)
    wishes = [wish(f"{i}", scale, count) for i, scale in enumerate(scales)]
    planned = lay_out(wishes, sky, dawn=dawn, between_s=3.0, from_s=late)
    assert {p.code for p in planned} == {w.code for w in wishes}
    order = [float(scales[int(p.code)]) for p in planned]
    assert order == sorted(order, reverse=dawn), "least light first at dusk, last at dawn"
    ends = late
    for p in planned:
        assert 0 <= p.planned <= count and p.planned <= p.fit
        if p.begins_s is None:
            continue
        assert p.begins_s >= ends - 1e-6, "never before the one before it, never in the past"
        assert p.opens_s - 1 <= p.begins_s <= p.shuts_s + 1
        assert all(0.5 * 0.999 <= t <= 30.0 * 1.001 for t in (p.first_exposure_s, p.last_exposure_s))
        # At dusk exposures grow, at dawn they shrink.
        assert (p.first_exposure_s <= p.last_exposure_s * 1.001) is not dawn or p.planned == 1
        ends = p.ends_s


def test_a_sky_that_never_gets_there_has_no_window():
    bright = SkyCourse(np.array([0.0, 3600.0]), np.array([5.0, 4.0]))
    assert window_of(wish("L", 50_000.0), bright) is None
    assert lay_out([wish("L", 50_000.0)], bright, dawn=False, between_s=3.0)[0].planned == 0


@pytest.mark.parametrize("dawn", [False, True], ids=["dusk", "dawn"])
def test_what_is_left_is_laid_out_by_the_sky_as_it_was_seen(dawn):
    """The sky is twice as bright as reckoned and fades faster: both are seen in one filter, and told of the other."""
    sky, per_s = course(-0.12 if dawn else 0.12), (-0.2 if dawn else 0.2) / 60.0
    wishes = [wish("L", 9_000.0), wish("Ha", 90.0)]
    first = wishes[0] if dawn else wishes[1]
    opens = window_of(first, sky)[0]
    truth = Fade(2.0 * sky.fade(opens, first.scale_adu_s).rate_adu_s, opens, per_s)
    shots, at = [], opens + (0.0 if dawn else 300.0)
    for _ in range(8):
        exposure = min(max(truth.exposure_for(29_000.0, at) or 30.0, 0.5), 30.0)
        shots.append(SkyShot(at, exposure, truth.light(at, exposure), flat=True))
        at += exposure + 25.0
    planned, fade = lay_out_again(wishes, {first.code: shots}, sky, dawn=dawn, between_s=3.0, from_s=at)
    assert fade == pytest.approx(per_s, rel=0.05)
    again = {p.code: p for p in planned}
    assert again[first.code].planned == 2, "eight of ten are there"
    assert again[first.code].first_exposure_s == pytest.approx(truth.exposure_for(29_000.0, at), rel=0.05)
    other = next(w for w in wishes if w is not first)
    shift = again[other.code].opens_s - window_of(other, sky)[0]
    # What the sky has more of than reckoned, at the last frame, is so many minutes of the reckoned fade: at dusk the
    # other window opens later by them, at dawn sooner.
    last = shots[-1].began_s
    more = math.log(truth.rate(last) / sky.fade(last, first.scale_adu_s).rate_adu_s)
    assert shift / 60.0 == pytest.approx((-more if dawn else more) / 0.12, abs=0.4)
    before = lay_out_again(wishes, {}, sky, dawn=dawn, between_s=3.0, from_s=-math.inf)
    assert before == (lay_out(wishes, sky, dawn=dawn, between_s=3.0), None)


def test_what_nobody_entered_is_taken_as_usual_and_said():
    known = SkyOptics("Ha", 3.0, 3.9, 5.5, 0.2, 1, colour=False)
    assert known.guessed == []
    assert known.scale_adu_s() == pytest.approx(sky_light.anchor_rate_e_s(3.0, 3.9, 5.5) / 0.2)
    unknown = SkyOptics("Ha", None, None, None, None, 1, colour=False)
    assert len(unknown.guessed) == 4
    assert unknown.scale_adu_s() > 0


def test_a_twilight_tells_the_scale_that_its_frames_had():
    sky = course(0.15)
    shots = [SkyShot(t, 4.0, sky.fade(t, 700.0).light(t, 4.0)) for t in (6000.0, 6060.0, 6200.0)]
    cloud = SkyShot(6100.0, 4.0, 0.2 * sky.fade(6100.0, 700.0).light(6100.0, 4.0))
    assert sky.scale([*shots, cloud]) == pytest.approx(700.0, rel=0.01), "one cloud does not count"


def test_the_simulated_sky_comes_again_every_night():
    sky = MODELS["heron"]("tiny").twilight
    for nights in (-2, 0, 1, 9):
        dusk = sky.dusk + timedelta(days=nights, seconds=nights * sky.dusk_later_s)
        dawn = sky.dawn + timedelta(days=nights, seconds=nights * sky.dawn_later_s)
        for at, way in ((dusk, -1), (dawn, 1)):
            now = sky.mean_e_s(at, 0.01)
            assert now == pytest.approx(sky.e_s, rel=1e-3)
            minute = sky.mean_e_s(at + timedelta(minutes=1), 0.01)
            assert math.log(minute / now) == pytest.approx(way * sky.per_min, rel=1e-3)
        assert sky.mean_e_s(dusk + timedelta(hours=6), 10.0) < 1e-6 * sky.e_s
        assert sky.mean_e_s(dusk - timedelta(hours=5), 1.0) > 1000 * sky.e_s, "it is day"


@pytest.mark.parametrize(
    ("exposures_s", "of_the_sky"),
    [
        ((2.0, 2.3, 2.7, 3.1, 3.6, 4.1), True),
        ((9.0, 9.0, 7.5, 7.5, 6.0, 6.0, 5.0), True),
        ((1.0, 1.2, 1.5, 1.4, 1.8, 2.2, 2.6), True),  # a cloud went
        (
            (0.6, 0.6, 10.0, 10.0, 10.5, 10.5, 10.5, 10.5),
            False,
        ),  # a search that was shot twice over, and few flats
        ((0.6, 0.6, 10.0, 10.5, 10.5, 10.5), False),
        ((0.5, 4.3, 3.9, 4.0, 4.0, 4.0, 4.0), False),
        ((4.0, 4.0, 4.0, 4.0), False),
        ((2.0, 3.0), False),
    ],
)
def test_flats_follow_the_sky_and_test_shots_do_not(exposures_s, of_the_sky):
    """What a search jumps to is of a steady light, however few flats come after it (common practice)."""
    begun = datetime(2026, 10, 18, 17, tzinfo=UTC)
    flats = [(begun + timedelta(seconds=40 * i), exposure_s) for i, exposure_s in enumerate(exposures_s)]
    assert follows_the_light(flats) is of_the_sky
