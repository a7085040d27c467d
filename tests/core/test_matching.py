"""Which calibration frames fit which lights, and why the others lost."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import pytest

from grayshelf.core.frames.angle import CameraAngle, angles_told
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.age import age_in_words, age_step
from grayshelf.core.matching.costs import sky_of
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.match import pull_slip, same_gap
from grayshelf.core.matching.model import LightsNoise, RigSays, SensorTraits, Tolerances, TrainEvent, Verdict
from grayshelf.core.matching.newer import is_newer, same_settings
from tests.core.holdings import FULL, WANT, hold, like, line
from tests.helpers import settings


@pytest.mark.parametrize(
    ("change", "verdict"),
    [
        ({}, Verdict.FITS),
        ({"exposure_s": 180.0}, Verdict.NOTHING),
        ({"exposure_s": 302.9}, Verdict.FITS),
        ({"exposure_s": 303.1}, Verdict.NOTHING),
        ({"sensor_temp_c": -9.0}, Verdict.FITS),
        ({"sensor_temp_c": -8.9}, Verdict.NOTHING),
        ({"sensor_temp_c": -5.0}, Verdict.NOTHING),
        ({"gain": 100.0}, Verdict.NOTHING),
        ({"offset": 20.0}, Verdict.NOTHING),
        ({"binning": (2, 2)}, Verdict.NOTHING),
        ({"gain": None}, Verdict.CARE),
        ({"sensor_temp_c": None}, Verdict.CARE),
        ({"filter_code": "L", "focus": 1.0, "angle": None}, Verdict.FITS),
        ({"night": date(2025, 9, 1)}, Verdict.CARE),
    ],
)
def test_darks(change, verdict):
    found = line(FrameKind.DARK, hold(**change))
    assert found.verdict is verdict
    if verdict is Verdict.NOTHING:
        assert found.runners_up
        assert found.lost_on[0]


@pytest.mark.parametrize(
    "change",
    [
        {"camera": "Dunlin C14"}, {"camera": None}, {"width": 101}, {"sample_step": 16}, {"row_order": "BOTTOM-UP"},
        {"bayer_pattern": "GRBG"}, {"read_mode": "low noise"},
    ],
)  # fmt: skip
def test_another_sensor_is_no_candidate_at_all(change):
    want = settings(sample_step=4, row_order="TOP-DOWN", bayer_pattern="RGGB", read_mode="normal")
    same = {"sample_step": 4, "row_order": "TOP-DOWN", "bayer_pattern": "RGGB", "read_mode": "normal"}
    found = line(FrameKind.DARK, hold(**{**same, **change}), want=want)
    assert found.verdict is Verdict.NOTHING
    assert not found.runners_up


@pytest.mark.parametrize(
    ("change", "verdict", "reason"),
    [
        ({}, Verdict.FITS, ""),
        ({"angle": CameraAngle(92.1)}, Verdict.FITS, ""),
        ({"angle": CameraAngle(2.4)}, Verdict.NOTHING, "angle off by −88.8°"),
        ({"angle": None}, Verdict.CARE, "angle is not known"),
        ({"angle": CameraAngle(271.2, "sky")}, Verdict.CARE, "angle is not known"),
        ({"focus": 12500.0}, Verdict.NOTHING, "focus off by +360 steps"),
        ({"gain": 100.0}, Verdict.CARE, "gain 100, not 200"),
        ({"telescope": "Bittern 200"}, Verdict.NOTHING, "another telescope, Bittern 200"),
        ({"focal_length_mm": 354.0}, Verdict.NOTHING, "focal length 354 mm, not 506 mm"),
        ({"focal_length_mm": None}, Verdict.CARE, "focal length is not known"),
        ({"telescope": "HERON92"}, Verdict.FITS, ""),
        ({"night": date(2026, 10, 17)}, Verdict.FITS, ""),
        ({"night": date(2026, 10, 11)}, Verdict.CARE, "7 nights old"),
    ],
)
def test_flats(change, verdict, reason):
    found = line(FrameKind.FLAT, hold(kind=FrameKind.FLAT, exposure_s=6.5, **change))
    assert found.verdict is verdict
    told = found.chosen.reasons if found.chosen else found.lost_on
    assert reason in "; ".join(told)


def test_a_flat_of_another_filter_is_not_considered():
    assert not line(FrameKind.FLAT, hold(kind=FrameKind.FLAT, filter_code="Ha")).runners_up


def test_angle_359_8_matches_0_2():
    found = line(
        FrameKind.FLAT,
        hold(kind=FrameKind.FLAT, angle=CameraAngle(359.8)),
        want=settings(angle=CameraAngle(0.2)),
    )
    assert found.verdict is Verdict.FITS


def test_an_event_between_ends_the_validity_of_flats():
    event = TrainEvent(datetime(2026, 10, 18, 12, tzinfo=UTC), "the reducer was re-spaced")
    before = {"night": date(2026, 10, 17), "taken": datetime(2026, 10, 18, 1, tzinfo=UTC)}
    found = line(FrameKind.FLAT, hold(kind=FrameKind.FLAT, **before), events=[event])
    assert found.verdict is Verdict.NOTHING
    assert "re-spaced" in found.lost_on[0]


def test_same_night_before_neighbours_before_others():
    nights = {"same": 18, "neighbour": 17, "older": 12}
    flats = [hold(k, FrameKind.FLAT, 20, night=date(2026, 10, d)) for k, d in nights.items()]
    flats.append(hold("more frames", FrameKind.FLAT, 200, night=date(2026, 10, 17)))
    random.Random(1).shuffle(flats)
    found = line(FrameKind.FLAT, *flats, tolerances=Tolerances(flat_nights=10))
    assert found.chosen.holding.key == "same"
    assert [c.holding.key for c in found.runners_up] == ["more frames", "neighbour", "older"]


def test_cost_decides_among_darks_that_fit():
    # A mismatch of 0.9 °C at 0.003 e⁻/s costs far less than ten times fewer frames.
    many, few = hold("many", n=100, sensor_temp_c=-9.1), hold("few", n=10)
    assert line(FrameKind.DARK, few, many).chosen.holding.key == "many"
    assert "costs" in line(FrameKind.DARK, few, many).lost_on[0]


def test_what_no_slip_tells_of_a_cost_does_not_stand_before_the_newer_and_of_one_night_the_master_comes_first():
    old = hold("old", sensor_temp_c=-10.01, night=date(2026, 8, 3), taken=datetime(2026, 8, 3, tzinfo=UTC))
    new = hold("new", sensor_temp_c=-9.96, night=date(2026, 9, 3), taken=datetime(2026, 9, 3, tzinfo=UTC))
    found = line(FrameKind.DARK, old, new)
    assert found.chosen.holding.key == "new" and found.lost_on == ("older",)
    # Another program's master bears the time of its first frame; the frames themselves that of their last.
    loose = replace(
        new,
        key="a",
        is_master=False,
        settings=replace(new.settings, taken=new.settings.taken + timedelta(hours=3)),
    )
    found = line(FrameKind.DARK, loose, new)
    assert found.chosen.holding.key == "new" and found.lost_on == ("not combined yet",)


@pytest.mark.parametrize(
    ("light_adu", "dark_adu", "told"),
    [
        (-100.0, -100.0, None),
        (100.0, -100.0, None),
        (None, None, None),
        (-100.0, None, "100 ADU was added to these lights, none to their dark. 100 ADU stay in them"),
        (150.0, 100.0, "50 ADU stay in them"),
        (None, -100.0, "100 ADU too much are taken off"),
    ],
)
def test_a_pedestal_is_told_of_where_the_dark_does_not_take_it_off(light_adu, dark_adu, told):
    dark = replace(hold(), pedestal_adu=dark_adu)
    warnings = pull_slip(WANT, [dark], Terms(Tolerances()), pedestal_adu=light_adu).warnings
    assert [told in w for w in warnings] == ([] if told is None else [True])


def test_the_dark_flat_goes_with_the_flat_and_one_gap_is_said_once():
    flat = hold("f", FrameKind.FLAT, exposure_s=6.5)
    good, bad = hold("d", FrameKind.DARK_FLAT, exposure_s=6.6), hold("x", FrameKind.DARK_FLAT, exposure_s=7.2)
    found = line(FrameKind.DARK_FLAT, flat, good, bad)
    assert found.chosen.holding.key == "d"
    assert found.lost_on == ("exposure off by +0.7 s",)
    alone = line(FrameKind.DARK_FLAT, good)
    assert alone.waits_for is FrameKind.FLAT
    taken = line(FrameKind.DARK_FLAT, hold("f", FrameKind.FLAT, exposure_s=6.5, pedestal_taken_off=True))
    assert taken.verdict is Verdict.FITS
    short = hold("f", FrameKind.FLAT, exposure_s=0.8)
    bias = hold("b", FrameKind.BIAS, 100)
    slip = pull_slip(WANT, [short, bias, hold()])
    assert slip.lines[-1].kind is FrameKind.DARK_FLAT
    assert slip.verdict is Verdict.NOTHING, (
        "what a flat needs stays missing until a person says that a bias will do"
    )
    assert [q.quantity for q in slip.questions] == ["dark flat"]
    will_do = Terms(says=RigSays(frozenset({"dark flat"})))
    slip = pull_slip(WANT, [short, bias, hold()], will_do)
    assert (slip.lines[-1].kind, slip.verdict, slip.questions) == (FrameKind.BIAS, Verdict.FITS, ())
    long = pull_slip(WANT, [replace(short, settings=replace(short.settings, exposure_s=30.0)), bias], will_do)
    assert long.lines[-1].verdict is Verdict.CARE, "a long flat has dark current of its own"


def test_calibrated_lights_pull_nothing():
    slip = pull_slip(WANT, [hold()], calibrated=True)
    assert not slip.lines
    assert "already calibrated" in slip.warnings[0]


def test_lights_that_wait_for_the_same_thing_share_a_gap():
    turned = settings(angle=CameraAngle(2.4))
    assert same_gap(FrameKind.DARK, WANT, turned, 1.0)
    assert not same_gap(FrameKind.FLAT, WANT, turned, 1.0)
    unknown = settings(angle=None)
    assert same_gap(FrameKind.FLAT, unknown, unknown, 1.0) and not same_gap(
        FrameKind.FLAT, unknown, turned, 1.0
    )
    assert not same_gap(FrameKind.FLAT, turned, unknown, 1.0)
    # Not by whole degrees: 44.45 and 44.55 are one, 359.8 and 0.3 too.
    for one, other in ((44.45, 44.55), (359.8, 0.3)):
        assert same_gap(
            FrameKind.FLAT, settings(angle=CameraAngle(one)), settings(angle=CameraAngle(other)), 1.0
        )
    assert not same_gap(FrameKind.FLAT, WANT, settings(angle=CameraAngle(91.2), binning=(2, 2)), 1.0)
    # Before and after a meridian flip a sky angle is half a turn apart, and the camera as it was.
    east, west, turned = (
        settings(angle=CameraAngle(deg, "sky", side))
        for deg, side in ((275.0, "east"), (95.2, "west"), (95.0, "east"))
    )
    assert same_gap(FrameKind.FLAT, east, west, 1.0) and not same_gap(FrameKind.FLAT, east, turned, 1.0)
    untold = [settings(angle=CameraAngle(deg, "sky")) for deg in (95.0, 95.3, 275.0)]
    assert same_gap(FrameKind.FLAT, *untold[:2], 1.0) and not same_gap(FrameKind.FLAT, *untold[1:], 1.0)


def test_angles_of_a_night_are_told_once():
    angles = [CameraAngle(deg) for deg in (91.3, 0.2, 91.2, 359.9, 180.0)]
    assert [round(deg, 2) for deg in angles_told(angles)] == [0.05, 91.25, 180.0]


def test_ages():
    assert [age_step(d) for d in (0, 29, 31, 100, 150, 250, 300, 400)] == [0, 0, 1, 2, 3, 4, 5, 6]
    assert [age_in_words(d) for d in (-150, -1, 0, 1, 16, 36, 399, 1200)] == [
        "dated ahead",
        "today",
        "today",
        "1 day",
        "16 days",
        "5 weeks",
        "13 months",
        "3 years",
    ]


def test_a_dark_at_nought_degrees_costs_what_the_sensor_leaks_there():
    """Dark current doubles every 6 °C or so (Widenhorn et al. 2002): 0 °C is a temperature, not a missing one."""
    traits = SensorTraits(read_noise_e=2.0, dark_rate_e_s=0.01, dark_rate_at_c=-12.0)
    cost = {}
    for temp in (-12.0, 0.0):
        want = replace(FULL, sensor_temp_c=temp)
        slip = pull_slip(want, [like("d", FrameKind.DARK, want, n=25)], Terms(traits=traits))
        cost[temp] = slip.lines[0].chosen.cost_e
    assert cost[-12.0] == pytest.approx(((2.0**2 + 0.01 * 300) / 25) ** 0.5)
    assert cost[0.0] == pytest.approx(((2.0**2 + 4 * 0.01 * 300) / 25) ** 0.5)


@pytest.mark.parametrize(
    ("kind", "change", "same"),
    [
        (FrameKind.DARK, {}, True),
        (FrameKind.DARK, {"sensor_temp_c": -7.2}, True),
        (FrameKind.DARK, {"sensor_temp_c": -6.8}, False),
        (FrameKind.DARK, {"exposure_s": 306.0}, False),
        (FrameKind.DARK, {"gain": None}, False),
        (FrameKind.DARK, {"read_mode": "fast"}, False),
        (FrameKind.BIAS, {"exposure_s": 0.001, "sensor_temp_c": 5.0}, True),
        (FrameKind.BIAS, {"offset": 20.0}, False),
        (FrameKind.DARK_FLAT, {"sensor_temp_c": 10.0}, True),
        (FrameKind.FLAT, {"gain": 0.0, "exposure_s": 1.0}, True),
        (FrameKind.FLAT, {"filter_code": "OIII"}, False),
        (FrameKind.FLAT, {"angle": CameraAngle(93.0)}, False),
        (FrameKind.FLAT, {"angle": None}, False),
        (FrameKind.FLAT, {"binning": (2, 2)}, False),
    ],
)
def test_what_a_master_can_be_held_against(kind, change, same):
    old = settings(angle=CameraAngle(91.2))
    assert same_settings(kind, old, replace(old, **change), Tolerances()) is same
    # What neither header tells is taken to be the same.
    silent = replace(old, gain=None, offset=None, angle=None, focal_length_mm=None)
    assert same_settings(kind, silent, silent, Tolerances())
    later = replace(old, night=date(2026, 12, 1), taken=None)
    assert is_newer(old, later) and not is_newer(later, old) and not is_newer(old, old)


def test_a_dark_is_as_old_as_the_night_on_which_it_was_measured_good():
    old = hold(night=date(2025, 12, 1), good_on=date(2026, 10, 1))
    age = {
        night: next(r for r in line(FrameKind.DARK, old, want=replace(WANT, night=night)).chosen.rulers if r.quantity == "age")
        for night in (date(2025, 11, 21), date(2026, 5, 1), date(2026, 10, 11), date(2027, 9, 1))
    }  # fmt: skip
    assert [r.measured for r in age.values()] == [10.0, 0.0, 10.0, 335.0]
    assert [r.inside for r in age.values()] == [True, True, True, False]


def test_of_equals_the_newer_one_and_flats_of_the_nearer_night():
    day = datetime(2026, 10, 10, 20, tzinfo=UTC)
    older, newer = hold("a", taken=day), hold("b", taken=day + timedelta(days=1))
    for shelf in ((older, newer), (newer, older)):
        assert line(FrameKind.DARK, *shelf).chosen.holding.key == "b"
    near = hold("near", FrameKind.FLAT, night=date(2026, 10, 17), taken=datetime(2026, 10, 17, 5, tzinfo=UTC))
    later = hold(
        "later", FrameKind.FLAT, night=date(2026, 10, 23), taken=datetime(2026, 10, 23, 5, tzinfo=UTC)
    )
    for shelf in ((near, later), (later, near)):
        for stays in (False, True):
            told = line(FrameKind.FLAT, *shelf, tolerances=Tolerances(train_stays_put=stays))
            assert told.chosen.holding.key == "near", (
                "where a train stays put any night serves, the nearest first"
            )


def test_of_dark_flats_that_do_as_well_those_of_the_flats_night_come_first():
    """Dark flats go with their night; one that costs less comes first all the same."""
    flat = hold("flat", FrameKind.FLAT, exposure_s=2.0)

    def dark_flat(key, night, n=25):
        return hold(key, FrameKind.DARK_FLAT, n, exposure_s=2.0, night=night, taken=None)

    own, later = dark_flat("own", WANT.night), dark_flat("later", WANT.night + timedelta(days=3))
    earlier, undated = dark_flat("earlier", WANT.night - timedelta(days=1)), dark_flat("undated", None)
    for shelf in ((own, later, earlier, undated), (undated, earlier, later, own)):
        found = line(FrameKind.DARK_FLAT, flat, *shelf)
        assert [c.holding.key for c in (found.chosen, *found.runners_up)] == [
            "own",
            "earlier",
            "later",
            "undated",
        ]
        assert list(found.lost_on[:2]) == ["further nights away"] * 2
    assert (
        line(FrameKind.DARK_FLAT, flat, own, dark_flat("many", later.settings.night, 200)).chosen.holding.key
        == "many"
    )


def test_a_read_out_that_lights_say_and_a_holding_does_not_is_told_as_not_known():
    want = settings(angle=CameraAngle(91.2), read_mode="low noise")
    told = line(FrameKind.DARK, hold(read_mode=None), want=want).chosen
    assert [r.quantity for r in told.rulers if r.unknown] == ["read-out mode"]
    assert not [r for r in line(FrameKind.DARK, hold(), want=WANT).chosen.rulers if r.unknown]


def test_the_sky_is_what_the_lights_noise_has_above_the_sensors_own():
    """Poisson's law: the variance of the sky's electrons is their number."""
    traits = SensorTraits(read_noise_e=3.0, dark_rate_e_s=0.0)
    assert sky_of(WANT, traits, LightsNoise(30, 20.0)) == pytest.approx(400.0 - 9.0)
    assert sky_of(WANT, traits, LightsNoise(30, 2.0)) == 0.0
