"""Which calibration frames fit which lights, and why the others lost."""

from __future__ import annotations

import random
from datetime import UTC, date, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.age import age_in_words, age_step
from grayshelf.core.matching.match import gap_key, pull_slip
from grayshelf.core.matching.model import Holding, SensorTraits, Tolerances, TrainEvent, Verdict
from tests.helpers import settings

WANT = settings(angle=CameraAngle(91.2))


def hold(key="1", kind=FrameKind.DARK, n=50, pedestal_taken_off=None, care=(), is_master=True, **changes):
    changes = {"angle": CameraAngle(91.2), **changes}
    return Holding(key, kind, settings(**changes), n, is_master, care, pedestal_taken_off=pedestal_taken_off)


def line(kind, *holdings, want=WANT, tolerances=Tolerances(), events=()):
    slip = pull_slip(want, holdings, tolerances, SensorTraits(), events)
    return next(x for x in slip.lines if x.kind is kind)


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
        ({"train": "Bittern 200"}, Verdict.NOTHING, "another train"),
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
    assert [x.kind for x in slip.lines][-1] is FrameKind.BIAS, "a bias stands in where flats are short"
    assert slip.verdict is Verdict.CARE


def test_calibrated_lights_pull_nothing():
    slip = pull_slip(WANT, [hold()], calibrated=True)
    assert not slip.lines
    assert "already calibrated" in slip.warnings[0]


@hypothesis_settings(max_examples=60)
@given(st.data())
def test_the_same_shelf_always_gives_the_same_slip(data):
    shelf = [
        hold(
            str(i), data.draw(st.sampled_from(list(FrameKind)[:4])), data.draw(st.sampled_from([5, 20, 20, 100])),
            sensor_temp_c=data.draw(st.sampled_from([-10.0, -9.5, -5.0, None])),
            exposure_s=data.draw(st.sampled_from([300.0, 6.5])),
            night=date(2026, 10, 18) - timedelta(days=data.draw(st.integers(0, 20))),
        )
        for i in range(12)
    ]  # fmt: skip
    first = pull_slip(WANT, shelf)
    data.draw(st.randoms(use_true_random=False)).shuffle(shelf)
    assert pull_slip(WANT, shelf) == first


def test_lights_that_wait_for_the_same_thing_share_a_gap():
    turned = settings(angle=CameraAngle(2.4))
    assert gap_key(FrameKind.DARK, WANT) == gap_key(FrameKind.DARK, turned)
    assert gap_key(FrameKind.FLAT, WANT) != gap_key(FrameKind.FLAT, turned)


def test_ages():
    assert [age_step(d) for d in (0, 29, 31, 100, 150, 250, 300, 400)] == [0, 0, 1, 2, 3, 4, 5, 6]
    assert [age_in_words(d) for d in (0, 1, 16, 36, 399, 1200)] == [
        "today",
        "1 day",
        "16 days",
        "5 weeks",
        "13 months",
        "3 years",
    ]
