"""Masters against astropy.stats, ccdproc and the model's truth."""

from __future__ import annotations

import ccdproc
import numpy as np
import pytest
from astropy.io import fits
from astropy.nddata import CCDData
from astropy.stats import mad_std, sigma_clip
from scipy.special import ndtr

from grayshelf.core.errors import CannotCombine
from grayshelf.core.frames.write import write_frame
from grayshelf.core.masters import strips
from grayshelf.core.masters.combine import CombineSettings, combine
from grayshelf.core.masters.noise import dark_rate_at, extremes_penalty, median_penalty
from grayshelf.library.file_rows import FileSource
from grayshelf.library.files import write_new
from tests.helpers import ArraySource
from tests.told import master_as_told

RNG = np.random.default_rng(20261018)


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
    master_as_told(f"{n} clean frames, step {step}, {sigma} ADU", ours)
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
    master_as_told(f"{n} frames with outliers, step {step}, {sigma} ADU", found)
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
    master_as_told("pixels that flicker", made)
    plain = frames.mean(axis=0)
    assert np.std(made.pixels[where] - 500.0) < 1.1 * np.std(plain[where] - 500.0)
    assert made.frame_noise == pytest.approx(6.0, rel=0.03)


def test_hot_pixels_are_as_noisy_as_their_level_and_not_clipped_for_it():
    rng = np.random.default_rng(4)
    rate = np.where(rng.random((200, 200)) < 0.02, rng.lognormal(6.0, 1.0, (200, 200)), 4.0)
    frames = (rng.poisson(rate, (10, 200, 200)) + rng.normal(0, 2.0, (10, 200, 200)) + 500).astype(np.float32)
    made = combine([ArraySource(f) for f in frames])
    master_as_told("hot pixels", made)
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
    master_as_told("flats of a colour sensor", made)
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
