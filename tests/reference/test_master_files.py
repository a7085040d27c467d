"""Masters as files, what they bring to lights, and the loops that make them, beside general libraries."""

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

from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.write import InputRecord, frame_header, write_frame, write_master
from grayshelf.core.masters.clipping import combine_pixel
from grayshelf.core.masters.clipping_kinds import EXTREMES, MAD, NO_CLIPPING, POOLED, STD, Clip
from grayshelf.core.masters.combine import CombineSettings, combine
from grayshelf.core.masters.noise import darks_cost_percent, flat_stack_noise, flats_cost_percent
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
from tests.told import master_as_told

RNG = np.random.default_rng(20261018)


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
            master_as_told(name, ours)
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
