"""Checks of frames and masters on faults switched on one at a time, at the smallest sizes that matter, and on none.

The sizes are those that practitioners call worth knowing (common practice, no published source); `make bench` counts
misses and false alarms over 30 seeds of each.
"""

from __future__ import annotations

import numpy as np
import pytest

from grayshelf.core.checks.defects import defects_of
from grayshelf.core.checks.findings import Fault, Place
from grayshelf.core.checks.glow import glow_of
from grayshelf.core.checks.looks import hottest, look_at
from grayshelf.core.checks.of_a_master import Beside, findings_of_master, look_at_master, reasons_for_care
from grayshelf.core.checks.of_a_picture import capped_and_full, shade_of, tilt_of
from grayshelf.core.checks.of_a_set import Looked, findings_of_set, fullest
from grayshelf.core.frames.kinds import FrameKind
from tests.reference.faulty_sets import Sensor, darks, flats, found_in
from tests.told import same_as_told

SEEDS = range(4)
#: What is switched on, in whose frames, and how large it is; None where the size is told another way.
LIT = {
    "panel drift": 2.0, "wrong filter": None, "banding": 0.3, "saturated": None, "wrong level": 6.0,
    "unsettled first frames": 2.0, "stars": None,
}  # fmt: skip
CAPPED = {
    "light leak": 3.0, "wrong level": 40.0, "wrong temperature": 1.0, "pedestal drift": 4.0,
    "unsettled first frames": 3.0, "clipped at zero": None,
}  # fmt: skip


@pytest.mark.parametrize(
    ("make", "kind", "fault", "size"),
    [(flats, FrameKind.FLAT, f, s) for f, s in LIT.items()]
    + [(darks, FrameKind.DARK, f, s) for f, s in CAPPED.items()],
)
def test_each_fault_is_found_by_name_and_size_and_nothing_else_is(make, kind, fault, size):
    for seed in SEEDS:
        frames, wrong = make(seed, fault)
        found, look = found_in(frames, kind, of_sky=fault == "stars")
        assert [f.fault.value for f in found] == [fault], (seed, found)
        same_as_told("faults", f"{kind}: {fault}, {seed}", [found, look if seed == 0 else None])
        one = found[0]
        assert type(one.size) is float, "as it is kept in the database"
        if size is not None:
            assert abs(one.size) == pytest.approx(size, rel=0.2, abs=0.06), (seed, one)
        if fault in ("wrong filter", "wrong level", "wrong temperature"):
            assert one.frames == (wrong,) and one.leave_out
        if fault == "unsettled first frames":
            assert one.frames == (0, 1) and one.leave_out
        if fault == "saturated":
            full = max(float(np.mean(f == 65535)) for f in frames)
            assert one.size == pytest.approx(100 * full, rel=0.01) and one.place is not None
            assert not one.leave_out, "where all are full, a master that says so is better than none"


def test_on_nothing_wrong_there_is_no_alarm():
    for seed in range(8):
        assert found_in(flats(seed)[0], FrameKind.FLAT, of_sky=True)[0] == []
        assert found_in(darks(seed)[0], FrameKind.DARK)[0] == []


def test_a_shutters_shade_shows_beside_a_longer_flat():
    for seed in SEEDS:
        (short, _), (longer, _) = flats(seed, "shutter shade"), flats(seed)
        looks = [found_in(frames, FrameKind.FLAT)[1] for frames in (short, longer)]
        shade = shade_of(looks[0], 1.0, looks[1], 8.0)
        assert len(shade) == 1 and shade[0].size == pytest.approx(1.0, rel=0.25)
        same_as_told("faults", f"shutter shade, {seed}", shade)
        assert shade_of(looks[1], 1.0, looks[1], 8.0) == [] == shade_of(looks[0], 1.0, looks[1], 1.5)


@pytest.mark.parametrize(
    ("make", "kind", "faults"),
    [
        (flats, FrameKind.FLAT, ("panel drift", "unsettled first frames")),
        (flats, FrameKind.FLAT, ("panel drift", "wrong level", "banding")),
        (flats, FrameKind.FLAT, ("saturated", "wrong level")),
        (flats, FrameKind.FLAT, ("wrong filter", "stars")),
        (flats, FrameKind.FLAT, ("banding", "stars")),
        (darks, FrameKind.DARK, ("pedestal drift", "unsettled first frames")),
        (darks, FrameKind.DARK, ("light leak", "wrong temperature", "clipped at zero")),
        (darks, FrameKind.DARK, tuple(CAPPED)),
    ],
)
def test_faults_that_come_together_are_each_told_and_no_other(make, kind, faults):
    for seed in (2, 3):
        found, _ = found_in(make(seed, *faults)[0], kind, of_sky="stars" in faults)
        assert {f.fault.value for f in found} == set(faults), seed
        same_as_told("faults", f"{kind}: {' and '.join(faults)}, {seed}", found)


def test_a_leak_is_told_from_the_sensors_own_slope_and_where_it_comes_from():
    # A bias has a slope of its own; a dark that shares it has seen no light.
    y, x = np.mgrid[0:240, 0:320].astype(np.float32)
    rng = np.random.default_rng(5)
    bias = 500 + 6 * x / 320 + rng.normal(0, 0.5, x.shape).astype(np.float32)
    dark = bias + 3 + rng.normal(0, 0.5, x.shape).astype(np.float32)
    lit = dark + 5 * y / 240
    beside = Beside(capped=look_at_master(bias, FrameKind.BIAS))

    def found(pixels, kind=FrameKind.DARK, beside=beside):
        return findings_of_master(pixels, look_at_master(pixels, kind), kind, beside)

    assert found(dark) == [] == found(bias, FrameKind.BIAS)
    (leak,) = found(lit)
    assert leak.fault is Fault.LEAK and leak.size == pytest.approx(5.0, rel=0.1)
    assert "last row" in leak.message and leak.place == Place(0, 120, 320, 240)
    for across, down, place in (
        (5, 5, Place(160, 120, 320, 240)), (-5, -5, Place(0, 0, 160, 120)), (5, -5, Place(160, 0, 320, 120)),
        (8, 0, Place(160, 0, 320, 240)), (-8, 0, Place(0, 0, 160, 240)), (0, -8, Place(0, 0, 320, 120)),
    ):  # fmt: skip
        (leak,) = found(dark + across * x / 320 + down * y / 240)
        assert leak.place == place, (across, down)
        same_as_told("faults", f"leak {across} across, {down} down", leak)
    assert reasons_for_care([leak]) == [], "told, and used all the same"
    assert reasons_for_care(found(dark + 40 * y / 240)) == ["light leak: 40 ADU"]
    foreign = np.where(x + y < 40, 0, dark)
    told = findings_of_master(
        foreign, look_at(foreign, 65535, lit=False), FrameKind.DARK, beside, foreign=True
    )
    assert Fault.CLIPPED in {f.fault for f in told}


def capped(seed, settings, *, light_e=0.0, temps_c=None, set_c=-10.0, kind=FrameKind.BIAS):
    """What is found of bias at the offset and the gain (over the usual one) of each, with light that comes in by and by."""
    sensor, n = Sensor(np.random.default_rng(seed)), len(settings)
    frames = []
    for i, (offset, gain) in enumerate(settings):
        e = sensor.rng.poisson(np.full(sensor.x.shape, light_e * i / n)) + sensor.rng.normal(
            0, 4.0, sensor.x.shape
        )
        frames.append(np.rint(e / 1.2 * gain + 400 + offset + sensor.pattern).clip(0, 65535).astype("u2"))
    looks = [look_at(f, 65535, lit=False, hot_at=hottest(frames[:3])) for f in frames]
    return findings_of_set(Looked(kind, looks, temps_c or [None] * n, set_c))


def test_frames_of_two_settings_are_told_apart_where_no_header_does():
    for seed in SEEDS:
        usual, other, higher = (0, 1.0), (60, 3.0), (50, 1.0)
        (gain,) = capped(seed, [usual] * 8 + [other] * 12)
        assert gain.fault is Fault.TWO_SETTINGS and gain.frames == tuple(range(8)) and gain.leave_out
        assert gain.size == pytest.approx(1 / 3, rel=0.2) and gain.message.startswith("Frames 1 to 8 are of ")
        assert "or did light reach the brighter ones" in gain.advice
        (mixed,) = capped(seed, [usual, usual, other] * 4)
        assert mixed.frames == (2, 5, 8, 11) and "4 of the 12 frames" in mixed.message
        (offset,) = capped(seed, [usual] * 7 + [higher] * 5)
        assert offset.frames == tuple(range(7, 12)) and offset.size == pytest.approx(50, abs=0.5)
        (half,) = capped(seed, [usual] * 6 + [other] * 6)
        assert not half.leave_out and reasons_for_care([half]), "nobody can say which are right"
        assert capped(seed, [usual] * 12) == []
        warm = [-10.0] * 8 + [-4.0] * 4
        (warmer,) = capped(seed, [usual] * 8 + [(0, 1.5)] * 4, temps_c=warm, kind=FrameKind.DARK)
        assert warmer.fault is Fault.TEMPERATURE, "that the sensor was warmer is known"
        drifting = [(5.0 * i, 1.0) for i in range(12)]
        assert [f.fault for f in capped(seed, drifting)] == [Fault.PEDESTAL_DRIFT]


def test_light_that_comes_in_by_and_by_is_no_drift_of_the_pedestal():
    # The photon transfer of EMVA 1288: what is gathered brings its noise, 1/K ADU² for each ADU.
    for seed in SEEDS:
        (light,) = capped(seed, [(0, 1.0)] * 15, light_e=100.0)
        assert light.fault is Fault.LEAK and light.size == pytest.approx(100 / 1.2, rel=0.1)
        (dusk,) = capped(seed, [(80 - 6 * i, 1.0) for i in range(12)])
        assert dusk.fault is Fault.PEDESTAL_DRIFT and dusk.size == pytest.approx(-66, rel=0.1)
        (warmer,) = capped(seed, [(0, 1.0)] * 15, light_e=100.0, set_c=None)
        assert warmer.fault is Fault.PEDESTAL_DRIFT, (
            "a sensor that nobody holds gathers more as it grows warmer"
        )


def test_defects_are_mapped_where_they_are_and_neither_glow_nor_vignetting_is_one():
    frames, _ = darks(2)
    sensor = Sensor(np.random.default_rng(2))
    mean = np.mean(frames, axis=0).astype(np.float32)
    mean[50, 60:70], mean[9, 9] = mean[50, 60:70] + 300, 0
    found = defects_of(mean, FrameKind.DARK)
    assert found.n_cold == 1 and (found.row[~found.hot][0], found.column[~found.hot][0]) == (9, 9)
    # What a pixel gathers in 120 s, in ADU: the hot ones well above ten spreads are all there, and few others.
    hot = sensor.hot * 120.0 / 1.2 > 40.0
    hot[50, 60:70] = True
    same_as_told("faults", "defects of a dark", found)
    mask = found.mask(mean.shape)
    assert (mask[hot] == 1).all() and np.count_nonzero((mask == 1) & (sensor.hot == 0)) - 10 < 5
    flat = np.mean(flats(2)[0], axis=0).astype(np.float32) - 400
    flat[100, 100], flat[5, 300] = flat[100, 100] * 0.5, flat[5, 300] * 1.6
    found = defects_of(flat, FrameKind.FLAT)
    assert {
        (int(r), int(c), bool(h)) for r, c, h in zip(found.row, found.column, found.hot, strict=True)
    } == {(100, 100, False), (5, 300, True)}
    same_as_told("faults", "defects of a flat", found)


def test_a_dark_that_a_bias_was_taken_off_is_not_called_clipped():
    taken_off = np.mean(darks(6)[0], axis=0).astype(np.float32) - 400
    for pixels, clipped in ((taken_off, False), (np.maximum(taken_off, 0), True)):
        look = look_at(pixels, 65535, lit=False)
        found = findings_of_master(pixels, look, FrameKind.DARK, Beside(), foreign=True)
        assert (Fault.CLIPPED in {f.fault for f in found}) is clipped


def test_rows_that_rise_together_stop_no_check_of_a_capped_master():
    # Every row has a level of its own: the search for a glow along them once left what numbers can hold.
    rng = np.random.default_rng(9)
    pixels = rng.normal(500.0, 0.02, (620, 960)) + np.repeat(rng.normal(0.0, 0.05, 31), 20)[:, None]
    look = look_at_master(pixels.astype(np.float32), FrameKind.DARK)
    assert findings_of_master(pixels.astype(np.float32), look, FrameKind.DARK, Beside()) == []
    squares = rng.normal(500.0, 0.02, (31, 48)) + rng.normal(0.0, 0.05, 31)[:, None]
    assert np.isfinite(glow_of(squares)).all()
    for seed in (9, 249, 285):
        rng = np.random.default_rng(seed)
        assert np.isfinite(glow_of(rng.normal(500, 0.02, (31, 48)) + rng.normal(0, 0.05, 31)[:, None])).all()


def test_what_a_look_counts_is_what_there_is():
    """Shares at zero and at full, levels and spread, against NumPy's own counting."""
    rng = np.random.default_rng(11)
    pixels = np.clip(rng.normal(900, 300, (240, 320)), 0, 65535).astype(np.uint16)
    pixels[:6, :50], pixels[-4:, :40] = 0, 65535
    look = look_at(pixels, 65535, lit=True)
    assert look.zeros == pytest.approx(np.mean(pixels == 0)) and look.full == pytest.approx(
        np.mean(pixels == 65535)
    )
    low, middle, high = np.percentile(pixels, (16, 50, 84))
    assert look.level == pytest.approx(middle, abs=1.0) and look.spread == pytest.approx(
        (high - low) / 2, abs=1.5
    )
    assert (look.height, look.width) == (240, 320)
    assert fullest(look).bottom == 240 and fullest(look).left == 0
    same_as_told("faults", "a look at a frame that is clipped and full", look)


def test_full_frames_are_told_with_how_full_and_whether_one_or_more():
    frames = [np.full((240, 320), 30_000, np.uint16) + np.uint16(i) for i in range(4)]
    rng = np.random.default_rng(3)
    frames = [f + rng.integers(0, 300, f.shape).astype(np.uint16) for f in frames]
    frames[2][:48] = 65535
    (one,), _ = found_in(frames, FrameKind.FLAT)
    assert one.frames == (2,) and "has up to 20 % of the pixels full: what they held is lost." in one.message
    assert one.leave_out and (one.place.left, one.place.top, one.place.bottom) == (0, 0, 48)
    for f in frames:
        f[:48] = 65535
    found, _ = found_in(frames, FrameKind.FLAT)
    all_of_them = next(f for f in found if f.fault is Fault.SATURATED)
    assert "have up to 20 %" in all_of_them.message and not all_of_them.leave_out


def test_a_master_from_elsewhere_says_how_much_of_it_is_lost_and_what_to_do():
    pixels = np.random.default_rng(2).normal(30_000, 20, (240, 320))
    pixels[:24], pixels[-12:] = 0, 65_535
    for kind, advice in ((FrameKind.FLAT, "Find the exposure again"), (FrameKind.DARK, "Keep light out")):
        zeros, full = capped_and_full(look_at(pixels.astype(np.uint16), 65_535, lit=True), kind)
        assert (zeros.fault, zeros.size, zeros.unit) == (Fault.CLIPPED, pytest.approx(10.0), "%")
        assert (full.fault, full.size, full.unit) == (Fault.SATURATED, pytest.approx(5.0), "%")
        assert zeros.message.startswith("10 % of its pixels") and full.message.startswith("5 % of its pixels")
        assert zeros.advice == "Use a higher offset." and full.advice.startswith(advice)


def test_a_tilt_is_held_against_the_flat_before_it_where_there_is_one():
    y, x = np.mgrid[0:240, 0:320].astype(np.float32)
    fall = 1 - 0.2 * ((x - 160) ** 2 + (y - 120) ** 2) / 40_000
    rng = np.random.default_rng(6)

    def look(slope, shape=(240, 320), along=x / 320):
        light = 20_000 * fall[: shape[0], : shape[1]] * (1 + slope * (along[: shape[0], : shape[1]] - 0.5))
        return look_at((light * rng.normal(1, 0.004, light.shape)).astype(np.uint16), 65535, lit=True)

    assert tilt_of(look(0.03), look(0.03)) == [] == tilt_of(look(0.0), None)
    (beside,) = tilt_of(look(0.03), look(0.0))
    assert "towards the right by 3.0 % than in the flat before it" in beside.message.replace("2.9 %", "3.0 %")
    assert beside.size == pytest.approx(3.0, abs=0.3) and beside.place == Place(160, 0, 320, 240)
    for slope, way in ((0.03, "last row"), (-0.03, "first row")):
        (down,) = tilt_of(look(slope, along=y / 240), look(0.0))
        assert f"towards the {way} by" in down.message
    # One of another size is none to hold it against: by itself, so little may be the train's own.
    assert tilt_of(look(0.03), look(0.0, (200, 320))) == []
    (alone,) = tilt_of(look(0.3), look(0.0, (200, 320)))
    same_as_told("faults", "tilts", [beside, down, alone])
    assert "flat before" not in alone.message and alone.size > 20


def test_a_glow_is_fitted_as_it_falls_off_and_none_is_where_nothing_does():
    y, x = (np.mgrid[0:40, 0:60] + 0.5) / np.array([40, 60])[:, None, None]
    truth = 60.0 * np.exp(-np.hypot((x - 1.0) / 0.15, (y - 0.5) / 0.2))
    even = np.random.default_rng(3).normal(500.0, 0.4, truth.shape) + 2.0 * x
    assert np.abs(glow_of(even + truth) - truth).max() < 1.5
    same_as_told("faults", "a glow", glow_of(even + truth))
    assert not glow_of(even).any()


def test_of_many_hot_pixels_the_hottest_are_followed():
    rng = np.random.default_rng(8)
    frame = rng.normal(500, 3, (100, 120)).astype(np.float32)
    where = rng.choice(frame.size, 40, replace=False)
    frame.ravel()[where] += 100 + 10 * np.arange(40)
    noisy = [frame + rng.normal(0, 0.5, frame.shape).astype(np.float32) for _ in range(3)]
    assert hottest(noisy, most=5).tolist() == sorted(where[-5:].tolist())
    assert set(hottest(noisy, share=40 / frame.size).tolist()) == set(where.tolist())


def test_what_rises_steadily_is_no_defect_and_what_stands_out_of_it_is():
    y, x = np.mgrid[0:240, 0:320].astype(np.float32)
    pixels = 500 + 4 * y + 2 * x + np.random.default_rng(4).normal(0, 2, y.shape).astype(np.float32)
    hot = [(30, 200), (120, 44), (201, 300)]
    for at in hot:
        pixels[at] += 400
    found = defects_of(pixels, FrameKind.DARK)
    same_as_told("faults", "defects on a slope", found)
    there = sorted(zip(found.row.tolist(), found.column.tolist(), strict=True))
    # At the very edge nothing lies beyond by which it could be told how it goes on.
    assert [at for at in there if at[0] < 234 and at[1] < 314] == hot
    assert found.value[[there.index(at) for at in hot]] == pytest.approx(400.0, abs=12.0)
