"""Masters against astropy.stats, ccdproc and the model's truth."""

from __future__ import annotations

import io
import os
import warnings
from datetime import UTC, date, datetime

import astropy.units as u
import ccdproc
import fitsio
import numpy as np
import pytest
from astropy.io import fits
from astropy.nddata import CCDData
from astropy.stats import mad_std, sigma_clip
from scipy.special import ndtr

from grayshelf.core.errors import CannotCombine
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.write import InputRecord, frame_header, write_frame, write_master
from grayshelf.core.masters import strips
from grayshelf.core.masters.clipping import combine_pixel
from grayshelf.core.masters.clipping_kinds import EXTREMES, MAD, NO_CLIPPING, POOLED, STD, Clip
from grayshelf.core.masters.combine import CombineSettings, combine
from grayshelf.core.masters.noise import (
    dark_rate_at,
    darks_cost_percent,
    extremes_penalty,
    flat_stack_noise,
    flats_cost_percent,
    median_penalty,
)
from grayshelf.core.masters.spread import StackNoise
from grayshelf.core.masters.tiles import (
    combine_numbers,
    combine_whole,
    forget_older,
    median_of_whole,
    networks,
)
from grayshelf.core.matching.costs import left_in_light_e
from grayshelf.devices.simulated.camera_model import (
    Conditions,
    SensorModel,
    expected_adu,
    expected_electrons,
    expose,
)
from grayshelf.devices.simulated.train_model import DustSpeck, TrainModel, flat_field
from grayshelf.library.file_rows import FileSource
from grayshelf.library.files import write_new
from tests.helpers import ArraySource
from tests.told import same_as_told

RNG = np.random.default_rng(20261018)


def made_as_told(name, made):
    """A master as it is kept; another processor may take one pixel more or less for an outlier."""
    same_as_told("masters", name, made, relative=5e-3, absolute=1e-4)


def stack_of(n, height=60, width=80, outliers=True):
    frames = RNG.normal(1000.0, 12.0, (n, height, width)).astype(np.float32)
    if outliers:
        where = RNG.random(frames.shape) < 0.01
        frames[where] += RNG.exponential(400.0, int(where.sum())).astype(np.float32)
    return frames


@pytest.mark.parametrize(
    ("n", "spread"), [(25, "std"), (60, "std"), (7, "mad"), (15, "mad"), (19, "mad"), (20, "std")]
)
def test_clipped_mean_equals_astropy(n, spread, monkeypatch):
    """`astropy.stats.sigma_clip` about the median, then the mean: the same pixels within float32 rounding."""
    frames = stack_of(n)
    # Strips far smaller than the frame: the seams must not show.
    monkeypatch.setattr(strips, "STRIP_BYTES", n * 80 * 8 * 10)
    ours = combine([ArraySource(f) for f in frames], CombineSettings(kappa=3.0, rounds=3, spread=spread))
    # Not stdfunc='mad_std': Astropy's fast path for that name does not reject what its own mad_std rejects.
    theirs_by = {"mad": lambda a, axis=None: mad_std(a, axis=axis, ignore_nan=True), "std": "std"}[spread]
    clipped = sigma_clip(
        frames.astype(np.float64), sigma=3.0, maxiters=3, cenfunc="median", stdfunc=theirs_by, axis=0
    )
    theirs = np.ma.mean(clipped, axis=0).filled(np.nan)
    np.testing.assert_allclose(ours.pixels, theirs, rtol=3e-7)
    np.testing.assert_allclose(
        ours.clipped_fraction, np.ma.getmaskarray(clipped).mean(axis=(1, 2)), atol=1e-9
    )


@pytest.mark.parametrize("n", [2, 3, 8, 80, 300])
@pytest.mark.parametrize("how", ["std", "mad", "mean", "median"])
def test_what_is_no_number_is_left_out_as_astropy_leaves_it_out(n, how):
    """NaN, as float frames and those with BLANK have it: masked in Astropy, not there at all in ours."""
    frames = stack_of(n, 20, 30)
    frames[RNG.random(frames.shape) < 0.03] = np.nan
    frames[:, 4, 5] = np.nan
    method, spread = (how, "std") if how in ("mean", "median") else ("clipped mean", how)
    ours = combine([ArraySource(f) for f in frames], CombineSettings(method, 3.0, 3, spread)).pixels
    masked = np.ma.masked_invalid(frames.astype(np.float64))
    if method == "clipped mean" and n > 2:
        stdfunc = {"mad": lambda a, axis=None: mad_std(a, axis=axis, ignore_nan=True), "std": "std"}[spread]
        masked = sigma_clip(masked, sigma=3.0, maxiters=3, cenfunc="median", stdfunc=stdfunc, axis=0)
    theirs = np.ma.median(masked, axis=0) if method == "median" else np.ma.mean(masked, axis=0)
    assert np.isnan(ours[4, 5]) and np.isfinite(np.delete(ours.ravel(), 4 * 30 + 5)).sum() >= 590
    np.testing.assert_allclose(ours, np.ma.filled(theirs, np.nan), rtol=3e-7)


def test_mean_and_median_equal_ccdproc():
    frames = stack_of(11)
    ccds = [CCDData(f, unit="adu") for f in frames]
    for method, name in (("mean", "average"), ("median", "median")):
        ours = combine([ArraySource(f) for f in frames], CombineSettings(method=method)).pixels
        np.testing.assert_allclose(ours, ccdproc.combine(ccds, method=name).data, rtol=3e-7)


@pytest.mark.parametrize("n", [3, 4, 5, 7, 9, 10])
def test_a_mean_without_extremes_is_that_of_ccdproc_and_as_noisy_as_told(n, tmp_path):
    """`Combiner.clip_extrema` of ccdproc with one low and one high; noise against that of a mean of as many."""
    rng = np.random.default_rng(n)
    frames = rng.normal(1000.0, 12.0, (n, 160, 200)).astype(np.float32)
    settings = CombineSettings("mean without extremes")
    made = combine([ArraySource(f) for f in frames], settings)
    ratio = (
        made.pixels.std() / combine([ArraySource(f) for f in frames], CombineSettings("mean")).pixels.std()
    )
    assert extremes_penalty(n) == pytest.approx(float(ratio), rel=0.01)
    # And closer, by drawing alone: 400,000 tell it to 0.1 %.
    drawn = rng.normal(size=(n, 400_000))
    left = (drawn.sum(axis=0) - drawn.min(axis=0) - drawn.max(axis=0)) / (n - 2)
    assert extremes_penalty(n) == pytest.approx(float(left.std()) * n**0.5, rel=0.004)
    assert made.predicted_noise == pytest.approx(float(made.pixels.std()), rel=0.02)
    assert made.noise == pytest.approx(float(made.pixels.std()), rel=0.03)
    # One far too bright and one far too dark are gone, and so they are in whole numbers as files keep them.
    frames[0, 3, 4], frames[-1, 3, 4] = 60_000.0, 0.0
    theirs = ccdproc.Combiner([CCDData(f, unit="adu") for f in frames])
    theirs.clip_extrema(nlow=1, nhigh=1)
    ours = combine([ArraySource(f) for f in frames], settings)
    np.testing.assert_allclose(ours.pixels, theirs.average_combine().data, rtol=1e-6)
    assert abs(ours.pixels[3, 4] - 1000.0) < 60 and ours.clipped_fraction == (0.0,) * n
    sources = []
    for i, frame in enumerate(frames):
        path = tmp_path / f"{i}.fits"
        write_new(path, lambda stream, p=frame: write_frame(stream, p.astype(np.uint16), fits.Header()))
        sources.append(FileSource(path, path.name, tmp_path))
    whole = np.sort(frames.astype(np.uint16).astype(np.float64), axis=0)[1:-1].mean(axis=0)
    np.testing.assert_allclose(combine(sources, settings).pixels, whole, rtol=1e-6)


@pytest.mark.parametrize("n", [2, 11, 30])
def test_extremes_are_left_out_of_few_frames_alone(n):
    frames = [ArraySource(f) for f in stack_of(n, 8, 8)]
    with pytest.raises(CannotCombine, match="3 to 10 frames"):
        combine(frames, CombineSettings("mean without extremes"))


def test_plain_kappa_sigma_cannot_reject_one_of_seven_and_the_robust_spread_can():
    # Arithmetic: one outlier of N lies at most (N − 1)/√N standard deviations out, 2.27 for 7.
    frames = RNG.normal(500.0, 5.0, (7, 20, 20)).astype(np.float32)
    frames[3] += 5000.0
    plain = combine([ArraySource(f) for f in frames], CombineSettings(spread="std"))
    robust = combine([ArraySource(f) for f in frames], CombineSettings(spread="mad"))
    assert plain.clipped_fraction[3] == 0.0
    for found in (robust, combine([ArraySource(f) for f in frames])):
        assert found.clipped_fraction[3] == 1.0
        assert abs(float(found.pixels.mean()) - 500.0) < 2.0


#: Step of the converter and noise before it, ADU: from none to a step of three times the noise.
STEPS = [(0, 12.0), (1, 1.2), (4, 5.0), (4, 12.0), (16, 12.0), (16, 5.0)]


def coarse(n, step, sigma, seed, side=200):
    """Frames of a sensor that is not the simulated one: no pattern but its own, whole numbers of coarse steps."""
    rng = np.random.default_rng(seed)
    truth = 500.0 + rng.normal(0.0, 8.0, (side, side))
    frames = rng.normal(truth, sigma, (n, side, side))
    return (np.round(frames / step) * step if step else frames).astype(np.float32), truth


def expected_of(truth, step, sigma):
    """What the samples of a pixel are on average, rounding included."""
    if not step:
        return truth
    levels = np.round(truth / step)[..., None] * step + step * np.arange(-12.0, 13.0)
    share = ndtr((levels + step / 2 - truth[..., None]) / sigma) - ndtr(
        (levels - step / 2 - truth[..., None]) / sigma
    )
    return (levels * share).sum(-1) / share.sum(-1)


@pytest.mark.parametrize("n", [3, 4, 6, 10, 15, 25, 60, 300])
@pytest.mark.parametrize(("step", "sigma"), STEPS)
def test_clean_frames_lose_nothing_to_clipping_and_the_stated_noise_is_the_true_one(n, step, sigma):
    """Against `ccdproc.combine` without clipping: the plain mean is the best there is of clean normal samples.

    3 σ about the median would cost 1.3 % whatever the depth; a MAD of few coarse samples cost up to 10 %.
    """
    frames, truth = coarse(n, step, sigma, 7 * n + step, 200 if n < 100 else 90)
    ours = combine([ArraySource(f) for f in frames])
    made_as_told(f"{n} clean frames, step {step}, {sigma} ADU", ours)
    plain = ccdproc.combine([CCDData(f, unit="adu") for f in frames], method="average").data
    expected = expected_of(truth, step, sigma)
    true_noise = float(np.std(ours.pixels - expected))
    assert true_noise <= 1.01 * float(np.std(plain - expected))
    assert ours.noise == pytest.approx(true_noise, rel=0.05)


@pytest.mark.parametrize("n", [4, 5, 8, 15, 40])
@pytest.mark.parametrize(("step", "sigma"), STEPS[:5])
def test_an_outlier_of_six_sigma_is_out_whatever_the_depth(n, step, sigma):
    """One in every pixel, in another frame each: the noise is read right though no pixel is clean."""
    frames, truth = coarse(n, step, sigma, n + 100)
    total = np.hypot(sigma, step / 12**0.5)
    hit = np.random.default_rng(n).integers(0, n, truth.shape)
    spoilt = truth + 6.0 * total
    values = np.ceil(spoilt / step) * step if step else spoilt
    for i in range(n):
        frames[i][hit == i] = values[hit == i]
    found = combine([ArraySource(f) for f in frames])
    clean = np.where(np.arange(n)[:, None, None] == hit, np.nan, frames)
    # Where the outlier is out, the master is the mean of the others (a few of which may be clipped too).
    made_as_told(f"{n} frames with outliers, step {step}, {sigma} ADU", found)
    off = np.abs(found.pixels - np.nanmean(clean, axis=0))
    assert float(np.mean(off < 2.0 * total / np.sqrt(n - 1))) > 0.97
    share = sum(found.clipped_fraction)
    assert share >= 0.99, f"{share:.3f} of the outliers are out"


def test_a_pixel_that_flickers_keeps_its_own_spread():
    """Telegraph noise of some pixels, five times the usual: they are not taken for a heap of outliers."""
    rng = np.random.default_rng(3)
    frames = rng.normal(500.0, 6.0, (20, 120, 120)).astype(np.float32)
    where = rng.random((120, 120)) < 0.01
    frames[:, where] = rng.normal(500.0, 30.0, (20, int(where.sum())))
    made = combine([ArraySource(f) for f in frames])
    made_as_told("pixels that flicker", made)
    plain = frames.mean(axis=0)
    assert np.std(made.pixels[where] - 500.0) < 1.1 * np.std(plain[where] - 500.0)
    assert made.frame_noise == pytest.approx(6.0, rel=0.03)


def test_hot_pixels_are_as_noisy_as_their_level_and_not_clipped_for_it():
    rng = np.random.default_rng(4)
    rate = np.where(rng.random((200, 200)) < 0.02, rng.lognormal(6.0, 1.0, (200, 200)), 4.0)
    frames = (rng.poisson(rate, (10, 200, 200)) + rng.normal(0, 2.0, (10, 200, 200)) + 500).astype(np.float32)
    made = combine([ArraySource(f) for f in frames])
    made_as_told("hot pixels", made)
    hot = rate > 200
    lost = np.std((made.pixels - 500 - rate)[hot] / np.sqrt(rate[hot])) * np.sqrt(10)
    assert lost < 1.05, "the noise of their mean is the photon noise of theirs"


@pytest.mark.parametrize("n", [10, 20, 50])
def test_noise_from_half_stacks_is_what_theory_foretells(n):
    frames = stack_of(n, 200, 200, outliers=False)
    made = combine([ArraySource(f) for f in frames], CombineSettings(method="mean"))
    assert made.noise == pytest.approx(12.0 / np.sqrt(n), rel=0.02)
    assert made.frame_noise == pytest.approx(12.0, rel=0.02)
    assert made.noise == pytest.approx(made.predicted_noise, rel=0.03)


def test_flats_are_scaled_to_their_own_median_each_colour_on_its_own():
    shape = 1.0 - 0.3 * np.hypot(*np.mgrid[-1:1:40j, -1:1:60j]) ** 2
    colour = np.ones((40, 60))
    colour[0::2, 0::2], colour[1::2, 1::2] = 0.4, 0.7
    dark = ArraySource(np.full((40, 60), 500.0))
    frames = [
        ArraySource((500 + level * shape * colour).astype(np.float32)) for level in (18000, 20000, 23000)
    ]
    made = combine(
        frames, CombineSettings(method="mean"), pedestal=dark, scale_to_median=True, pattern="RGGB"
    )
    made_as_told("flats of a colour sensor", made)
    for r in (0, 1):
        for c in (0, 1):
            assert float(np.median(made.pixels[r::2, c::2])) == pytest.approx(1.0, abs=2e-3)
    expected = shape / np.median(shape)
    np.testing.assert_allclose(made.pixels[0::2, 0::2], expected[0::2, 0::2], rtol=0.02)


@pytest.mark.parametrize(("n", "penalty"), [(3, 1.160), (5, 1.198), (10, 1.179), (20, 1.214), (50, 1.236)])
def test_a_median_is_as_much_noisier_as_order_statistics_say(n, penalty):
    """Noise of a median of n over that of a mean of n, for normal noise (tables of order statistics, from memory)."""
    frames = np.random.default_rng(n).normal(1000.0, 12.0, (n, 160, 200)).astype(np.float32)
    noise = {
        method: combine([ArraySource(f) for f in frames], CombineSettings(method=method)).pixels.std()
        for method in ("mean", "median")
    }
    # 32,000 pixels tell a standard deviation to 0.4 %, the ratio of two that hang together to less.
    assert noise["median"] / noise["mean"] == pytest.approx(penalty, rel=0.01)
    assert median_penalty(n) == pytest.approx(penalty, rel=0.005)
    assert noise["mean"] == pytest.approx(12.0 / n**0.5, rel=0.015)


@pytest.mark.parametrize(("at_c", "doubles_in_c"), [(-20.0, 6.1), (-10.0, 6.6), (0.0, 7.1)])
def test_dark_current_grows_about_as_the_physics_of_silicon_has_it(at_c, doubles_in_c):
    """``T^1.5·exp(−E_g/2kT)``, E_g = 1.1557 − 7.021e−4·T²/(1108 + T) eV (Janesick; cf. Widenhorn et al. 2002).

    The doubling every 6 °C that masters are compared by is the trade's round number: over the degree that a dark may be
    off it differs from the physics by a tenth of what is left over, at most.
    """

    def rate(celsius):
        kelvin = celsius + 273.15
        gap_ev = 1.1557 - 7.021e-4 * kelvin**2 / (1108.0 + kelvin)
        return kelvin**1.5 * np.exp(-gap_ev / (2.0 * 8.617333e-5 * kelvin))

    doubling = np.log(2.0) / np.log(rate(at_c + 0.5) / rate(at_c - 0.5))
    assert doubling == pytest.approx(doubles_in_c, abs=0.1), "the formula, against the handbook's numbers"
    ours = dark_rate_at(1.0, at_c, at_c + 1.0)
    theirs = rate(at_c + 1.0) / rate(at_c)
    assert ours == pytest.approx(theirs, rel=0.025)
    assert dark_rate_at(dark_rate_at(0.01, at_c, 5.0), 5.0, at_c) == pytest.approx(0.01)


def test_what_cannot_be_combined_is_refused():
    with pytest.raises(CannotCombine, match="no frame"):
        combine([])
    with pytest.raises(CannotCombine, match="is not 20 × 20"):
        combine([ArraySource(np.ones((20, 20))), ArraySource(np.ones((20, 21)), "odd")])
    with pytest.raises(CannotCombine, match="not brighter than its dark flat"):
        combine(
            [ArraySource(np.ones((20, 20)))] * 3,
            pedestal=ArraySource(np.full((20, 20), 9.0)),
            scale_to_median=True,
        )


def test_a_calibrated_light_is_as_near_to_the_truth_as_ccdproc_brings_it():
    """The residual of (light − dark) / flat against the model's noise-free sky, ours and ccdproc's."""
    sensor = SensorModel("Test", 240, 160, 3.9, seed=7)
    train = TrainModel("T", 92, 506, 0.3, (0.1, 0.0), (DustSpeck(0.4, 0.5, 200, 0.15, "window"),))
    through = flat_field(train, 240, 160, "Ha", 0.0, 12000.0)
    rng = np.random.default_rng(5)
    on = date(2026, 10, 18)
    light_c = Conditions(300, 200, 30, -10, on)
    flat_c = Conditions(4, 200, 30, -10, on)
    darks = [expose(sensor, 0.0, light_c, rng) for _ in range(25)]
    dark_flats = [expose(sensor, 0.0, flat_c, rng) for _ in range(25)]
    flats = [expose(sensor, through * 550, flat_c, rng) for _ in range(25)]
    sky = np.float32(2.0)
    light = expose(sensor, through * sky, light_c, rng).astype(np.float32)

    def sources(frames):
        return [ArraySource(f) for f in frames]

    dark, dark_flat = combine(sources(darks)).pixels, combine(sources(dark_flats)).pixels
    flat = combine(sources(flats), pedestal=ArraySource(dark_flat), scale_to_median=True).pixels
    alive = flat > 0.1
    ours = (light - dark) / np.where(alive, flat, 1.0)

    def ccd(frames):
        return [CCDData(f.astype(np.float32), unit="adu") for f in frames]

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        rules = {
            "method": "average",
            "sigma_clip": True,
            "sigma_clip_func": np.ma.median,
            "sigma_clip_dev_func": np.ma.std,
        }
        their_dark = ccdproc.combine(ccd(darks), **rules)
        their_dark_flat = ccdproc.combine(ccd(dark_flats), **rules)
        above = [ccdproc.subtract_bias(f, their_dark_flat) for f in ccd(flats)]
        their_flat = ccdproc.combine(above, scale=lambda a: 1.0 / np.ma.median(a), **rules)
        subtracted = ccdproc.subtract_dark(
            CCDData(light, unit="adu"), their_dark, dark_exposure=300 * u.s, data_exposure=300 * u.s
        )
        theirs = ccdproc.flat_correct(subtracted, their_flat, norm_value=1.0).data
    # The truth: an even sky, in ADU, scaled as the flat's median scales it.
    even = expected_electrons(sensor, sky, light_c) - expected_electrons(sensor, 0.0, light_c)
    truth = np.median(even / sensor.response) / sensor.e_per_adu(200) * np.median(through)
    good = expected_adu(sensor, expected_electrons(sensor, 0.0, light_c), light_c) < 2000
    good &= alive

    def residual(calibrated):
        return float(np.sqrt(np.mean((calibrated[good] - truth) ** 2)))

    assert residual(ours) <= residual(theirs) * 1.01
    assert abs(float(np.median(ours[good])) / truth - 1) < 0.01


FACTS = FrameFacts(
    60, 40, 16, FrameKind.FLAT, True, 25, "Dunlin M24", 6.5, 200.0, 30.0, 1, 1, filter_code="SII",
    telescope="Heron 92", sensor_temp_c=-10.0, set_temp_c=-10.0, utc=datetime(2026, 10, 19, 0, 20, tzinfo=UTC),
)  # fmt: skip


def test_files_open_in_astropy_and_in_fitsio(tmp_path):
    """FITS Standard 4.0 by two readers: astropy.io.fits with verify('exception'), and fitsio (CFITSIO)."""
    pixels = RNG.normal(1, 0.1, (40, 60)).astype(np.float32)
    inputs = [
        InputRecord("flat_é_1.fits", "ab" * 32, True, 29500.0, 0.01),
        InputRecord("b", "0" * 64, False, 1.0, 0.0, "apart"),
    ]
    path = tmp_path / "master.fits"
    with path.open("wb") as stream:
        write_master(stream, pixels, frame_header(FACTS), inputs, ["Combined"])
    raw = tmp_path / "frame.fits"
    counts = RNG.integers(0, 65536, (40, 60)).astype(np.uint16)
    with raw.open("wb") as stream:
        write_frame(stream, counts, frame_header(FACTS))
    with fits.open(path, checksum=True) as hdus:
        hdus.verify("exception")
        np.testing.assert_array_equal(hdus[0].data, pixels)
        assert hdus[0].header["NCOMBINE"] == 25
        assert list(hdus["INPUTS"].data["USED"]) == [True, False]
        assert hdus["INPUTS"].data["SHA256"][0] == "ab" * 32
    np.testing.assert_array_equal(fitsio.read(path), pixels)
    assert fitsio.read_header(path)["FILTER"].strip() == "SII"
    # Unsigned 16 bit: BITPIX 16, BZERO 32768, BSCALE 1 (FITS Standard 4.0, table 11).
    header = fitsio.read_header(raw)
    assert (header["BITPIX"], header["BZERO"]) == (16, 32768)
    np.testing.assert_array_equal(fitsio.read(raw), counts)
    assert "Z" not in header["DATE-OBS"], "a date-time has no zone letter"
    assert len(raw.read_bytes()) % 2880 == 0
    buffer = io.BytesIO(raw.read_bytes())
    assert buffer.read(9) == b"SIMPLE  ="


def test_costs_as_the_handbooks_have_them():
    # Derived in the domain's own terms: sixty lights, 20,000 e⁻ a flat, ten flats: 14 % at 1,000 e⁻ of sky and
    # 0.6 % at 50. Common practice, no published source.
    assert flats_cost_percent(1000, 20000, 10, 60, 0.0) == pytest.approx(14.0, abs=0.5)
    assert flats_cost_percent(50, 20000, 10, 60, 3.0) == pytest.approx(0.6, abs=0.15)
    assert flats_cost_percent(1000, 20000, 10, 60, 0.0, dither_positions=60) < 0.5
    # As many darks as lights of the same noise: √2 (arithmetic).
    assert darks_cost_percent(5.0, 60, 5.0, 60) == pytest.approx(41.4, abs=0.1)
    # Dark current doubles every 6 °C: 12 % a degree (Widenhorn et al. 2002, from memory).
    assert left_in_light_e(0.01, -10, 300, -9, 300, -10) == pytest.approx(3.0 * 0.1225, abs=0.01)
    assert left_in_light_e(0.01, -10, 300, -4, 300, -10) == pytest.approx(3.0)
    # Photon noise alone: 1/√(N·S).
    assert flat_stack_noise(25000, 0.0, 16, None) == pytest.approx(1 / np.sqrt(16 * 25000))


@pytest.mark.parametrize("how", [POOLED, STD, MAD, NO_CLIPPING, EXTREMES])
@pytest.mark.parametrize("n", [1, 2, 3, 4, 7, 10, 31, 70])
def test_many_pixels_at_once_are_combined_as_one_by_one(how, n):
    rng = np.random.default_rng(n)
    size, quantum = 700, 4.0 if n % 2 else 0.0
    level = np.where(rng.random(size) < 0.05, 9_000.0, 500.0)
    stack = (level + np.sqrt(level) * rng.standard_normal((n, size))).astype(np.float32)
    stack[rng.random(stack.shape) < 0.01] += 800.0
    stack[:, :9] = np.rint(stack[:, :9] / 900) * 900
    if quantum:
        stack = np.rint(stack / quantum).astype(np.float32) * np.float32(quantum)
    levels, variances = np.array([300.0, 800.0, 5_000.0]), np.array([480.0, 470.0, 5_000.0])
    noise = StackNoise(levels, variances, quantum, 3.0, 1.3, 2 if n > 6 else 0)
    rest = quantum, noise.noisy_above, noise.own_factor, noise.trimmed
    kept = (np.clip(np.rint(stack), 0, 65_535).astype(np.int32) - 32_768).astype(">i2").view(np.uint16)
    for median_only in (False, True) if how == NO_CLIPPING else (False,):
        clip = Clip(how, 3.0, 3, median_only, levels, variances, noise.least_above, *rest)
        for together, given in ((combine_numbers, stack), (combine_whole, kept)):
            plain = stack if given is stack else np.clip(np.rint(stack), 0, 65_535).astype(np.float32)
            ours, theirs = ([np.zeros(size, np.float32), np.zeros(size, np.float32)] for _ in range(2))
            left_out, counted = np.zeros(n, np.int64), np.zeros(n, np.int64)
            together(given, clip, 256, networks(n), *ours, 1, left_out)
            for p in range(size):
                combine_pixel(plain[:, p], np.empty(n), np.empty(n), clip, *theirs, p, p, counted)
            for a, b in zip(ours, theirs, strict=True):
                # Of a sum less two of its parts the last digit may be another.
                assert np.array_equal(a, b) if how != EXTREMES else np.allclose(a, b, rtol=3e-7)
            assert list(left_out) == list(counted)
            if how == POOLED and n >= 7:
                assert counted.sum() > 20
    if how == NO_CLIPPING:
        middle, apart = np.zeros(size, np.float32), np.zeros(size // 7, np.float32)
        median_of_whole(kept, 256, networks(n), middle, apart, 7)
        assert np.array_equal(middle, theirs[0]) and np.array_equal(apart, theirs[1][::7])


@pytest.mark.parametrize(("flats", "most_open"), [(False, 200), (True, 200), (False, 5)])
def test_frames_as_fits_keeps_them_are_combined_as_their_numbers_are(tmp_path, monkeypatch, flats, most_open):
    # No more files are held open at once than a system allows; the others are opened for each strip.
    monkeypatch.setattr("grayshelf.core.masters.strips.MOST_OPEN", most_open)
    rng, sources, numbers = np.random.default_rng(8), [], []
    dark = ArraySource(rng.normal(400, 3, (61, 83)).astype(np.float32)) if flats else None
    for i in range(12):
        pixels = rng.normal(30_000 if flats else 500, 40, (61, 83)).astype(np.uint16)
        pixels[rng.random(pixels.shape) < 0.003] = 65_535
        path = tmp_path / f"{i}.fits"
        write_new(path, lambda stream, p=pixels: write_frame(stream, p, fits.Header()))
        sources.append(FileSource(path, path.name, tmp_path))
        numbers.append(ArraySource(pixels.astype(np.float32)))
    assert all(s.unsigned_16 for s in sources)
    for how in (
        CombineSettings(),
        CombineSettings(method="median"),
        CombineSettings(spread="std", kappa=3.0),
    ):
        ours, theirs = (combine(s, how, pedestal=dark, scale_to_median=flats) for s in (sources, numbers))
        name = f"{'flats' if flats else 'darks'}, {how}"
        if most_open > 100:
            made_as_told(name, ours)
        assert np.array_equal(ours.pixels, theirs.pixels) and ours.clipped_fraction == theirs.clipped_fraction
        assert (ours.noise, ours.frame_noise) == (theirs.noise, theirs.frame_noise)
        assert all(0.0 <= share < 0.1 for share in ours.clipped_fraction)


def test_progress_is_told_up_to_the_end_and_a_stack_of_one_has_no_noise_to_tell():
    rng, told = np.random.default_rng(5), []
    frames = [ArraySource(rng.normal(500, 5, (40, 30)).astype(np.float32)) for _ in range(4)]
    combine(frames, CombineSettings(), scale_to_median=True, progress=told.append)
    assert told == sorted(told) and told[-1] == 1.0 and 0.0 < told[0] < 0.5
    alone = combine(frames[:1], CombineSettings())
    assert np.isnan(alone.noise) and np.isnan(alone.frame_noise) and np.isnan(alone.predicted_noise)
    assert alone.clipped_fraction == (0.0,)


def test_loops_that_call_a_newer_file_are_compiled_anew(tmp_path):
    called, kept, other = (
        tmp_path / n for n in ("clipping.py", "tiles.combine_tile-9.nbi", "spread.x-1.nbi")
    )
    for path, age in ((kept, 50), (called, 20), (other, 90)):
        path.write_text("")
        os.utime(path, (1e9 - age, 1e9 - age))
    forget_older(tmp_path, called)
    assert not kept.exists() and other.exists()
    kept.write_text("")
    forget_older(tmp_path, called)
    assert kept.exists()
    forget_older(tmp_path / "nowhere", tmp_path / "neither")


def test_the_sorting_network_sorts():
    # Knuth, The Art of Computer Programming 3, 5.3.4: a network that sorts all of zeros and ones sorts everything.
    for n in range(2, 13):
        every = np.array([[i >> j & 1 for j in range(n)] for i in range(2**n)]).T
        for pairs, asked in ((networks(n)[:2], slice((n - 1) // 2, n // 2 + 1)), (networks(n)[2:], slice(n))):
            found = every.copy()
            for a, b in zip(*pairs, strict=True):
                found[[a, b]] = np.minimum(found[a], found[b]), np.maximum(found[a], found[b])
            assert np.array_equal(found[asked], np.sort(every, axis=0)[asked]), n
