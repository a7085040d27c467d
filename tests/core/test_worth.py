"""What darks and few frames are worth, which rows share their dark flats, and what a sheet on the sky takes."""

from __future__ import annotations

from dataclasses import replace

import pytest

from grayshelf.core.flats.sky.plan import PlannedRow
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.costs import frame_noise_e, what_rules
from grayshelf.core.matching.judge import FEWEST_IN_STACK, Terms, few_frames
from grayshelf.core.matching.model import CommonSettings, Holding, SensorTraits, Tolerances
from grayshelf.core.planning.fill import OLD_SHARE, counts_to_choose
from grayshelf.core.planning.shared_dark_flats import shares_exposure
from grayshelf.core.planning.sheet import FlatSeries, RigPace, StepKind
from grayshelf.core.planning.sky_sheet import SKY_EXPOSURE_S, sky_sheet
from grayshelf.core.planning.worth import WouldUse, added_percent, dark_worth, saved_percent

WANT = CommonSettings(
    "Cam", 4000, 3000, (1, 1), gain=100.0, offset=30.0, exposure_s=300.0, sensor_temp_c=-10.0
)


def dark(frames):
    return Holding("d", FrameKind.DARK, WANT, frames)


def user(lights, there=None):
    return WouldUse(lights, WANT, Terms(Tolerances()), there)


def test_more_darks_add_less_and_are_worth_more_and_never_more_than_their_lights():
    added = [added_percent(n, [user(60)]) for n in (5, 10, 20, 40, 80)]
    assert added == sorted(added, reverse=True) and added[-1] > 0
    # The dark's share falls as 1/N: twice the frames, about half of what they add, while that is little.
    assert added[3] / added[4] == pytest.approx(2.0, rel=0.1)
    worth = [dark_worth(n, [user(60)]) for n in (5, 10, 20, 40, 80)]
    assert worth == sorted(worth) and worth[-1] < 60
    assert worth[0] == pytest.approx(60 / (1 + added[0] / 100) ** 2)
    assert added_percent(20, []) is None and dark_worth(20, []) == 0.0


def test_what_is_there_already_leaves_little_to_be_won():
    old = user(60, dark(10))
    assert saved_percent(40, [old]) == pytest.approx(added_percent(10, [old]) - added_percent(40, [old]))
    assert saved_percent(10, [old]) == pytest.approx(0.0) and saved_percent(5, [old]) < 0
    assert saved_percent(40, [user(60)]) is None
    # An old dark is renewed for its age, whatever its count.
    assert dark_worth(5, [old]) == pytest.approx(OLD_SHARE * 60)
    assert OLD_SHARE * 60 < dark_worth(40, [old]) < dark_worth(40, [user(60)])
    # The mean over all lights: a target of many counts more.
    both = added_percent(20, [user(100), user(10)])
    few, many = added_percent(20, [user(10)]), added_percent(20, [user(100)])
    assert both == pytest.approx((100 * many + 10 * few) / 110)
    assert saved_percent(40, [old, user(500)]) == saved_percent(40, [old])
    assert dark_worth(20, [user(100), user(10)]) == pytest.approx(
        dark_worth(20, [user(100)]) + dark_worth(20, [user(10)])
    )


def test_counts_to_choose_from():
    worth = {n: float(n) for n in range(1, 101)}
    assert [c.frames for c in counts_to_choose(30, 10, worth)] == [30, 20, 15]
    assert [c.frames for c in counts_to_choose(12, 10, worth)] == [12, 10]
    assert [c.frames for c in counts_to_choose(30, 10, {30: 1.0, 15: 0.5})] == [30, 15]
    assert counts_to_choose(30, 10, worth)[1].worth == 20.0


@pytest.mark.parametrize(
    ("kind", "frames", "told"),
    [
        (FrameKind.DARK, 3, True), (FrameKind.DARK, 100, False), (FrameKind.FLAT, 2, True), (FrameKind.FLAT, 100, False),
        (FrameKind.BIAS, FEWEST_IN_STACK - 1, True), (FrameKind.BIAS, FEWEST_IN_STACK, False), (FrameKind.DARK_FLAT, 1, True), (FrameKind.DARK_FLAT, 30, False),
    ],
)  # fmt: skip
def test_few_frames_are_told_of(kind, frames, told):
    flat = kind is FrameKind.FLAT
    holding = Holding("h", kind, WANT, frames, signal_e=20_000.0 if flat else None)
    found = few_frames(holding, Tolerances())
    assert bool(found) is told and all(str(frames) in words for words in found)


def series(code, prior_s, **more):
    return FlatSeries(code, more.pop("gain", 100.0), 30.0, 1, 25, 25, prior_exposure_s=prior_s, **more)


def test_a_row_keeps_the_exposure_that_another_of_its_settings_has():
    rows = [
        series("R", 2.0),
        series("G", 2.0),
        series("Ha", 5.0),
        series("OIII", 5.0, gain=200.0),
        series("B", None),
    ]
    assert [shares_exposure(rows, i) for i in range(5)] == [True, True, False, False, False]
    # To be begun anew it keeps nothing, and the other has nobody to share with but for that.
    anew = [replace(rows[0], begin_s=1.0), rows[1]]
    assert [shares_exposure(anew, i) for i in range(2)] == [False, True]
    # Fewer dark flats wished than the other row's: still one set for both.
    assert shares_exposure([replace(rows[0], n_dark_flats=50), replace(rows[1], n_dark_flats=10)], 0)
    assert not shares_exposure([rows[0]], 0)
    assert not shares_exposure([rows[0], replace(rows[1], offset=31.0)], 0)
    assert not shares_exposure([rows[0], replace(rows[1], binning=2)], 0)


def test_a_sheet_on_the_sky_is_one_hand_at_the_zenith_and_flats():
    rows, pace = [series("R", None), series("Ha", None)], RigPace(download_s=1.0, wheel_s=4.0, gate_s=120.0)
    sheet = sky_sheet(rows, pace)
    assert [s.kind for s in sheet.steps] == [StepKind.GATE, StepKind.FLATS, StepKind.FLATS]
    assert (
        sheet.steps[0].needs_person and sheet.steps[0].seconds == 120.0 and sheet.steps[0].gate.sign == "sky"
    )
    flats = sheet.steps[1]
    assert (flats.title, flats.filter_code, flats.count, flats.row) == ("25 flats in R", "R", 25, 0)
    assert flats.exposure_s == SKY_EXPOSURE_S and flats.seconds == pytest.approx(
        4.0 + 25 * (SKY_EXPOSURE_S + 1.0)
    )
    assert sheet.rows == tuple(rows) and sheet.steps[2].row == 1
    # Laid into a twilight: only what fits, and the wait counts for the row that is waited for.
    laid = [
        (1, PlannedRow("Ha", 0.0, 300.0, 40, 20, 10.0, 110.0, 0.5, 3.0)),
        (0, PlannedRow("R", 150.0, 400.0, 40, 5, 150.0, 200.0, 0.6, 2.0)),
        (0, PlannedRow("G", None, None, 0, 0, None, None, None, None)),
        (0, PlannedRow("B", 300.0, 500.0, 0, 0, 300.0, 300.0, None, None)),
    ]
    steps = sky_sheet(rows, pace, laid).steps[1:]
    assert [(s.row, s.count, s.exposure_s, s.seconds) for s in steps] == [
        (1, 20, 0.5, 100.0),
        (0, 5, 0.6, 90.0),
    ]
    assert sky_sheet(rows, pace, []).steps[1:] == ()


def test_the_noise_of_a_frame_is_that_of_the_ccd_equation():
    """Howell, Handbook of CCD Astronomy, worked example (from memory): 24,013 ADU of star on one pixel, sky 620 ADU, 5 e⁻/ADU, read
    noise 5 e⁻, dark current 1.8 e⁻: S/N 342."""
    traits = SensorTraits(read_noise_e=5.0, dark_rate_e_s=0.006)
    own = frame_noise_e(replace(WANT, exposure_s=300.0, sensor_temp_c=-10.0), traits)
    star, sky = 24_013 * 5.0, 620 * 5.0
    assert star / (star + sky + own**2) ** 0.5 == pytest.approx(342, abs=0.5)


def test_short_frames_in_the_cold_are_ruled_by_their_read_out_and_long_warm_ones_by_dark_current():
    """σ² = R² + D(T)·t (EMVA Standard 1288, from memory); D doubles every 6 °C (common practice)."""
    traits = SensorTraits(read_noise_e=3.0, dark_rate_e_s=0.01, dark_rate_at_c=-10.0, hot_rate_e_s=0.9)
    cold = what_rules(replace(WANT, exposure_s=100.0, sensor_temp_c=-10.0), traits)
    assert (cold.read_share, cold.usual_from_s, cold.hot_from_s) == pytest.approx((0.9, 900.0, 10.0))
    warm = what_rules(replace(WANT, exposure_s=300.0, sensor_temp_c=8.0), traits)
    assert (warm.read_share, warm.usual_from_s) == pytest.approx((9 / 33, 112.5))
    # At the temperature that is usual for the camera where none is known; a sensor without dark current has none to rule.
    assert what_rules(replace(WANT, sensor_temp_c=None), traits).usual_from_s == pytest.approx(900.0)
    none = what_rules(replace(WANT, exposure_s=300.0), replace(traits, dark_rate_e_s=0.0, hot_rate_e_s=0.0))
    assert none.read_share == 1.0 and none.usual_from_s == float("inf")
