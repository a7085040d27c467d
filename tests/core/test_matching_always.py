"""What holds of every slip, whatever the lights and the shelf."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta

import pytest
from hypothesis import assume, given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.match import pull_slip
from grayshelf.core.matching.model import Tolerances, Verdict
from tests.core.holdings import FULL, WANT, hold, like, line


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


#: What must be the same or near, by the kind of frame that is pulled; another value of it is out of any tolerance.
HARD = {
    FrameKind.DARK: {
        "gain": 100.0, "offset": 20.0, "binning": (2, 2), "sensor_temp_c": -4.0, "exposure_s": 120.0,
        "camera": "Dunlin C14", "width": 50, "read_mode": "fast", "row_order": "BOTTOM-UP", "sample_step": 16,
    },
    FrameKind.FLAT: {
        "binning": (2, 2), "angle": CameraAngle(181.2), "focus": 12_900.0, "telescope": "Bittern 200", "camera": "Dunlin C14",
        "height": 40, "read_mode": "fast", "row_order": "BOTTOM-UP", "sample_step": 16, "filter_code": "Ha",
    },
}  # fmt: skip


#: What asks for care where it differs, and never forbids.
SOFT = {
    FrameKind.DARK: {"night": date(2024, 1, 1)},
    FrameKind.FLAT: {"night": date(2026, 9, 1), "gain": 100.0, "offset": 20.0},
}


#: Two values that are not known are not equal.
MAY_BE_UNKNOWN = {
    FrameKind.DARK: ("gain", "offset", "binning", "sensor_temp_c", "exposure_s", "night"),
    FrameKind.FLAT: (
        "gain",
        "offset",
        "binning",
        "angle",
        "focus",
        "telescope",
        "focal_length_mm",
        "night",
        "filter_code",
    ),
}


KINDS = st.sampled_from([FrameKind.DARK, FrameKind.FLAT])


def some(data, choices, least=0):
    keys = data.draw(st.lists(st.sampled_from(sorted(choices)), min_size=least, unique=True))
    return {k: choices[k] for k in keys}


@hypothesis_settings(max_examples=150)
@given(st.data(), KINDS)
def test_a_hard_setting_that_differs_forbids_whatever_else_agrees(data, kind):
    changes = some(data, HARD[kind], least=1) | some(data, SOFT[kind])
    found = line(kind, like("x", kind, **changes), want=FULL)
    assert found.verdict is Verdict.NOTHING
    assert found.chosen is None
    # Where it could have been a candidate at all, each of the settings is named with how far off it is.
    for told in found.lost_on:
        for name, word in (
            ("gain", "gain"),
            ("exposure_s", "exposure"),
            ("angle", "angle"),
            ("focus", "focus"),
        ):
            if name in changes and name in HARD[kind]:
                assert word in told


@hypothesis_settings(max_examples=150)
@given(st.data(), KINDS, st.booleans())
def test_what_is_not_known_never_simply_fits(data, kind, on_both_sides):
    unknown = dict.fromkeys(
        data.draw(st.lists(st.sampled_from(MAY_BE_UNKNOWN[kind]), min_size=1, unique=True)), None
    )
    # Lights that give no focal length ask for none, unless the shelf knows of several.
    hidden = {k: v for k, v in unknown.items() if k not in ("filter_code", "focal_length_mm")}
    want = replace(FULL, **hidden) if on_both_sides else FULL
    found = line(kind, like("x", kind, **unknown), want=want)
    assert found.verdict is Verdict.CARE
    assert found.chosen.reasons


@hypothesis_settings(max_examples=150)
@given(st.data(), KINDS)
def test_the_very_same_settings_win_over_any_others_and_each_loser_is_told_why(data, kind):
    others = [
        like(f"other {i}", kind, **(some(data, HARD[kind]) | some(data, SOFT[kind], least=1)))
        for i in range(4)
    ]
    found = line(kind, *others, like("same", kind), want=FULL)
    assert found.verdict is Verdict.FITS
    assert found.chosen.holding.key == "same"
    assert not found.chosen.reasons
    assert len(found.lost_on) == len(found.runners_up)
    assert all(found.lost_on)


@hypothesis_settings(max_examples=150)
@given(st.data(), KINDS, st.floats(1.0, 5.0))
def test_wider_tolerances_never_make_a_verdict_worse(data, kind, wider):
    strict = Tolerances()
    names = (
        "dark_exposure_percent",
        "dark_temp_c",
        "flat_angle_deg",
        "flat_focus_steps",
        "dark_age_days",
        "flat_nights",
    )
    loose = replace(strict, **{n: getattr(strict, n) * wider for n in names})
    near = {
        "sensor_temp_c": -10.0 + data.draw(st.floats(-6, 6)),
        "exposure_s": 300.0 * (1 + data.draw(st.floats(-0.06, 0.06))),
        "angle": CameraAngle((91.2 + data.draw(st.floats(-6, 6))) % 360),
        "focus": 12_140.0 + data.draw(st.floats(-900, 900)),
        "night": date(2026, 10, 18) - timedelta(days=data.draw(st.integers(0, 1000))),
    }  # fmt: skip
    order = [Verdict.FITS, Verdict.CARE, Verdict.NOTHING]
    verdicts = [line(kind, like("x", kind, **near), want=FULL, tolerances=t).verdict for t in (strict, loose)]
    assert order.index(verdicts[1]) <= order.index(verdicts[0])


@hypothesis_settings(max_examples=100)
@given(st.floats(0, 360), st.floats(-179, 179), st.floats(0.1, 90))
def test_an_angle_is_measured_the_short_way_round_wherever_it_lies(at, apart, allowed):
    want = replace(FULL, angle=CameraAngle(at % 360))
    flat = like("f", FrameKind.FLAT, want, angle=CameraAngle((at + apart) % 360))
    found = line(FrameKind.FLAT, flat, want=want, tolerances=Tolerances(flat_angle_deg=allowed))
    assume(abs(abs(apart) - allowed) > 1e-6)
    assert (found.verdict is Verdict.FITS) == (abs(apart) < allowed)
    judged = found.chosen or found.runners_up[0]
    ruler = next(r for r in judged.rulers if r.quantity == "angle")
    assert ruler.distance == pytest.approx(apart, abs=1e-6)
