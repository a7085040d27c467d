"""Twilight flats: the sun's place, the fade, and the exposure of a fading sky."""

from __future__ import annotations

import math
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import erfa
import numpy as np
import pytest
from astropy import units as u
from astropy.coordinates import AltAz, EarthLocation, HADec, SkyCoord
from astropy.time import Time
from hypothesis import given, settings
from hypothesis import strategies as st

from grayshelf.clock import SimulatedClock
from grayshelf.core.flats.sky.sun import sun_altitudes, twilight_at
from grayshelf.core.flats.sky.twilight import (
    Fade,
    SkyDone,
    SkySeries,
    SkyShoot,
    SkyShot,
    counted,
    evening_fade,
    fit_fade,
    next_sky_step,
    order_filters,
    sky_window,
)
from grayshelf.core.planning.pointing import hour_angle_and_declination, may_not_face_sky, sky_place
from grayshelf.core.sensor.statistics import frame_statistics
from grayshelf.demo.rigs import MODELS
from grayshelf.devices.simulated.rig import SimulatedWorld, devices_of
from grayshelf.devices.simulated.train_model import TwilightModel


def test_the_sun_stands_where_erfa_says():
    """Against ERFA's own ephemeris and sidereal time (Standards of Fundamental Astronomy), by hand."""
    times = [datetime(2026, 10, 18, 12, tzinfo=UTC) + timedelta(hours=h) for h in range(0, 24, 3)]
    latitude, longitude = 52.95, 0.95
    ours = sun_altitudes(latitude, longitude, times)
    for when, altitude in zip(times, ours, strict=True):
        jd = 2400000.5 + (when - datetime(1858, 11, 17, tzinfo=UTC)).total_seconds() / 86400
        heliocentric, _ = erfa.epv00(jd, 69.2 / 86400)
        sun = -np.array(heliocentric["p"])
        ra, dec = erfa.c2s(erfa.rxp(erfa.pnm06a(jd, 69.2 / 86400), sun))
        hour = erfa.gst06a(jd, 0, jd, 69.2 / 86400) + math.radians(longitude) - ra
        phi = math.radians(latitude)
        sine = math.sin(phi) * math.sin(dec) + math.cos(phi) * math.cos(dec) * math.cos(hour)
        assert altitude == pytest.approx(math.degrees(math.asin(sine)), abs=0.02)


@pytest.mark.filterwarnings("ignore:.*dubious year")
def test_the_sun_is_known_however_old_the_installation_is():
    # Ten years on, far beyond the tables that came with it, it stands where it stood, to the calendar's wobble.
    def noon(year):
        return sun_altitudes(52.95, 0.95, [datetime(year, 6, 21, 12, tzinfo=UTC)])[0]

    assert noon(2036) == pytest.approx(noon(2026), abs=0.05)


def test_civil_dusk_comes_at_six_degrees_below():
    # The Nautical Almanac's definition of civil twilight: the sun's centre 6° below the horizon.
    times = [datetime(2026, 10, 18, 16, 0, tzinfo=UTC) + timedelta(minutes=m) for m in range(150)]
    altitudes = sun_altitudes(52.95, 0.95, times)
    sunset, dusk = (int(np.argmax(altitudes < limit)) for limit in (-0.833, -6.0))
    assert 30 <= dusk - sunset <= 38, "about half an hour in October at 53° north (common practice)"


def test_a_twilight_knows_when_the_sun_passes_its_degrees():
    for dawn in (False, True):
        sky = twilight_at(52.95, 0.95, date(2026, 10, 19), dawn=dawn)
        degrees = sky.whole_degrees(0.0, sky.ends_s)
        assert [d for d, _ in degrees] == list(range(degrees[0][0], degrees[-1][0] + 1))
        times = [at for _, at in degrees]
        assert times == sorted(times, reverse=not dawn), "it rises all the morning and sinks all the evening"
        for degree, at in degrees[::7]:
            assert sun_altitudes(52.95, 0.95, [sky.time(at)])[0] == pytest.approx(degree, abs=0.02)
        assert sky.passes(70.0) is None
    # Where it turns sharply, through the zenith, it is as well known.
    zenith = twilight_at(0.0, 10.0, date(2026, 3, 20), dawn=True)
    minutes = [zenith.time(float(s)) for s in zenith.times_s[-40:]]
    assert zenith.altitudes_deg[-40:] == pytest.approx(sun_altitudes(0.0, 10.0, minutes), abs=0.002)
    polar = twilight_at(78.0, 15.0, date(2026, 6, 21), dawn=False)
    assert polar.passes(-5.0) is None, "the sun of the midnight"


def test_the_level_is_lowered_where_the_brightest_pixels_would_pass_the_limit():
    wish = SkySeries("L", 10, 40_000, 4_000, 65_000, 0.5, 30.0, limit_adu=48_000)
    dim = SkyShot(0.0, 1.0, 10_000, brightest_adu=15_000)
    assert wish.below_limit([dim]).level_adu == pytest.approx(32_000), "1.5 times brighter than the median"
    assert wish.below_limit([]).level_adu == 40_000, "nothing is known of it yet"
    assert wish.below_limit([SkyShot(0.0, 1.0, 10_000, brightest_adu=11_000)]).level_adu == 40_000
    step = next_sky_step([wish], {"L": [dim]}, 5.0, dawn=False)
    sky = fit_fade([dim], dawn=False)
    assert sky.light(5.0, step.exposure_s) == pytest.approx(32_000, rel=0.01)


@settings(max_examples=200)
@given(
    log_rate=st.floats(1.0, 5.0),
    per_min=st.floats(-0.4, 0.4),
    level=st.floats(5_000.0, 40_000.0),
    at=st.floats(-600.0, 600.0),
)
def test_the_exposure_collects_what_is_wanted_or_never_can(log_rate, per_min, level, at):
    fade = Fade(10.0**log_rate, 0.0, per_min / 60.0)
    exposure = fade.exposure_for(level, at)
    if exposure is None:
        assert fade.light(at, 1e7) <= level * 1.0001, "all the light that is still to come is too little"
    else:
        assert fade.light(at, exposure) == pytest.approx(level, rel=1e-6)


def test_the_fade_is_fitted_within_five_percent():
    for dawn in (False, True):
        truth = Fade(9000.0, 0.0, (-1 if dawn else 1) * 0.31 / 60)
        rng, shots, at = np.random.default_rng(4), [], 0.0
        for _ in range(10):
            fade = fit_fade(shots, dawn=dawn)
            exposure = 1.0 if fade is None else fade.exposure_for(29_000, at)
            signal = truth.light(at, exposure) * (1 + 0.004 * rng.standard_normal())
            if fade is not None:
                assert signal == pytest.approx(29_000, rel=0.10), (
                    "within ±10 % of the target from the second on"
                )
            shots.append(SkyShot(at, exposure, signal))
            at += exposure + 4.0
        assert fit_fade(shots, dawn=dawn).per_s == pytest.approx(truth.per_s, rel=0.05)


def test_windows_and_order():
    fade = Fade(20_000.0, 0.0, 0.22 / 60)
    window = sky_window(fade, 29_000, 0.5, 20.0)
    assert fade.exposure_for(29_000, window.opens_s) == pytest.approx(0.5)
    assert fade.exposure_for(29_000, window.shuts_s) == pytest.approx(20.0)
    rates = {"L": 900.0, "Ha": 9.0, "R": 250.0}
    assert order_filters(rates, dawn=False) == ["Ha", "R", "L"]
    assert order_filters(rates, dawn=True) == ["L", "R", "Ha"]


@pytest.mark.parametrize("dawn", [False, True], ids=["dusk", "dawn"])
def test_four_filters_of_ten_flats_on_the_simulated_sky(dawn):
    start = datetime(2026, 10, 18, 17, 0, tzinfo=UTC)
    sky = TwilightModel(start, start + timedelta(hours=12), 1.5e7, 0.24)
    model = replace(MODELS["heron"]("tiny"), twilight=sky)
    clock = SimulatedClock(start + timedelta(hours=11, minutes=8) if dawn else start, 1e9)
    world = SimulatedWorld(model, clock)
    devices = devices_of(world)
    began = clock.now()
    codes = order_filters({c: model.panel_through[c] for c in ("L", "R", "Ha", "SII")}, dawn=dawn)
    wishes = [SkySeries(c, 10, 29_000, 2_900, 65_000, 0.5, 20.0, 1.3 * model.panel_through[c]) for c in codes]
    shots = {c: [] for c in codes}
    for _ in range(200):
        now = (clock.now() - began).total_seconds()
        step = next_sky_step(wishes, shots, now, dawn=dawn)
        if isinstance(step, SkyDone):
            break
        if not isinstance(step, SkyShoot):
            clock.sleep(step.seconds)
            continue
        assert 0.5 * 0.999 <= step.exposure_s <= 20.0 * 1.001
        devices.wheel.move(devices.wheel.filters.index(step.code))
        frame = devices.camera.expose(step.exposure_s, 100.0, 30, 1)
        stats = frame_statistics(frame.pixels)
        at = (frame.began - began).total_seconds()
        shot = SkyShot(at, step.exposure_s, min(stats.median - 500, 65_000))
        wish = next(w for w in wishes if w.code == step.code)
        shots[step.code].append(replace(shot, flat=not step.test and wish.is_flat(shot)))
        if not step.test and len(shots[step.code]) > 2:
            assert stats.saturated_fraction < 0.001, "none is saturated once the sky was read"
    assert isinstance(step, SkyDone) and not step.missed, (step, {c: len(s) for c, s in shots.items()})
    for wish in wishes:
        assert counted(shots[wish.code]) >= 10
        assert len(shots[wish.code]) <= 18, "few are lost to finding the sky"
    truth = (-1 if dawn else 1) * sky.per_min / 60
    assert evening_fade(shots, dawn=dawn) == pytest.approx(truth, rel=0.05)


@settings(max_examples=120)
@given(
    per_min=st.floats(0.1, 0.35),
    logs=st.lists(st.floats(-1.5, 1.5), min_size=1, max_size=4),
    astray=st.floats(-1.0, 1.0),
    late_s=st.floats(-1800.0, 1800.0),
    count=st.integers(1, 12),
    dawn=st.booleans(),
)
def test_on_any_fading_sky_all_flats_are_shot_or_the_sky_is_gone(per_min, logs, astray, late_s, count, dawn):
    """Filters over three decades, hints of their light off by up to a factor of e, begun too early or too late."""
    truth = {str(i): 1000.0 * 10.0**log for i, log in enumerate(logs)}
    fades = {code: Fade(rate, 0.0, (-per_min if dawn else per_min) / 60.0) for code, rate in truth.items()}
    hints = {code: rate * math.exp(astray * (-1) ** int(code)) for code, rate in truth.items()}
    wishes = [
        SkySeries(code, count, 29_000, 2_900, 65_000, 0.5, 30.0, hints[code])
        for code in order_filters(hints, dawn=dawn)
    ]
    shots = {w.code: [] for w in wishes}
    now = late_s - 3600.0
    for _ in range(900):
        step = next_sky_step(wishes, shots, now, dawn=dawn)
        if isinstance(step, SkyDone):
            break
        if not isinstance(step, SkyShoot):
            assert step.seconds > 0 and step.why
            now += step.seconds
            continue
        wish = next(w for w in wishes if w.code == step.code)
        assert wish.shortest_s * 0.999 <= step.exposure_s <= wish.longest_s * 1.001
        signal = min(fades[step.code].light(now, step.exposure_s), wish.full_adu)
        shot = SkyShot(now, step.exposure_s, signal)
        shots[step.code].append(replace(shot, flat=not step.test and wish.is_flat(shot)))
        now += step.exposure_s + 3.0
    assert isinstance(step, SkyDone), "it ends"
    for wish in wishes:
        own = shots[wish.code]
        set_aside = [s for s in own if not s.flat and wish.can_read(s.signal_adu)]
        assert len(set_aside) <= 6, "looks at the sky, and few of them"
        if wish.code in step.missed:
            needed = fades[wish.code].exposure_for(wish.level_adu, now)
            gone = needed is None or needed > 0.8 * wish.longest_s
            assert (needed is not None and needed < 1.25 * wish.shortest_s) if dawn else gone
        else:
            assert counted(own) == count


def test_a_place_on_the_sky_is_where_astropy_has_it():
    """Hour angle and declination of altitude and azimuth, against Astropy's AltAz and HADec frames."""
    rng = np.random.default_rng(4)
    for _ in range(40):
        latitude, altitude, azimuth = rng.uniform(-70, 70), rng.uniform(5, 85), rng.uniform(0, 360)
        where = EarthLocation(lat=latitude * u.deg, lon=0 * u.deg)
        at = Time("2026-10-19T04:00:00")
        place = SkyCoord(alt=altitude * u.deg, az=azimuth * u.deg, frame=AltAz(obstime=at, location=where))
        ours = hour_angle_and_declination(altitude, azimuth, latitude)
        theirs = place.transform_to(HADec(obstime=at, location=where))
        mine = SkyCoord(ha=ours[0] * u.deg, dec=ours[1] * u.deg, frame=HADec(obstime=at, location=where))
        assert mine.separation(theirs).deg < 0.02
    # Away from the sun, and never below the horizon that was said.
    assert may_not_face_sky(20.0) and not may_not_face_sky(-3.0)
    assert sky_place(100.0, 20.0) == (75.0, 280.0) and sky_place(270.0, 80.0) == (80.0, 90.0)
