"""Reading files that others made: Astropy's own test data, compressed frames, statistics against NumPy."""

from __future__ import annotations

import gzip
import json
import random
from pathlib import Path

import astropy.io.fits.tests as astropy_fits_tests
import numpy as np
import pytest
from astropy.io import fits

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.flats.channels import channel_share, starves
from grayshelf.core.pictures.stretch import shrink, stretch
from grayshelf.core.sensor.statistics import camera_white, flat_statistics, frame_statistics, sample_step
from grayshelf.library.catalog import read_file
from grayshelf.library.facts_json import facts_from_json, facts_to_json
from grayshelf.library.file_rows import FileSource
from grayshelf.library.files import read_pixels
from grayshelf.library.folders import looks_like_frame
from tests.helpers import DARK, LONDON, write_fits

CORPUS = sorted((Path(astropy_fits_tests.__file__).parent / "data").glob("*.fits*"))


@pytest.mark.parametrize("path", CORPUS, ids=lambda p: p.name)
def test_astropys_own_test_files_are_read_or_refused_with_a_reason(path):
    """Compressed, scaled, tables only, no data: the files in astropy.io.fits.tests/data."""
    read = read_file(path, LONDON)
    if read.facts is None:
        assert read.reason.endswith(".")
        assert len(read.reason) > 20
        return
    try:
        pixels = read_pixels(path)
    except UnreadableFrame as error:
        assert error.message
        return
    assert pixels.shape == (read.facts.height, read.facts.width)


def test_the_corpus_is_there():
    assert len(CORPUS) > 20


def packed(tmp_path, pixels):
    plain = write_fits(tmp_path / "plain.fits", DARK, pixels)
    gz = tmp_path / "frame.fits.gz"
    gz.write_bytes(gzip.compress(plain.read_bytes()))
    fz = tmp_path / "frame.fits.fz"
    header = fits.getheader(plain)
    fits.HDUList([fits.PrimaryHDU(), fits.CompImageHDU(pixels, header, compression_type="RICE_1")]).writeto(
        fz
    )
    return plain, gz, fz


def test_plain_gzip_and_tile_compressed_give_the_same_pixels_and_facts(tmp_path):
    pixels = np.random.default_rng(1).integers(0, 65535, (64, 96)).astype(np.uint16)
    facts = []
    for path in packed(tmp_path, pixels):
        np.testing.assert_array_equal(read_pixels(path), pixels)
        source = FileSource(path, path.name, tmp_path)
        np.testing.assert_array_equal(source.rows(10, 30), pixels[10:30].astype(np.float32))
        read = read_file(path, LONDON).facts
        assert read is not None
        facts.append((read.width, read.height, read.kind, read.exposure_s, read.gain, read.utc))
    assert facts[0] == facts[1] == facts[2]
    assert all(looks_like_frame(n) for n in ("A.FITS", "b.fit", "c.fts", "d.fits.fz", "e.fit.gz"))
    assert not any(looks_like_frame(n) for n in ("a.txt", "fits", "b.fits.part", "c.xyz"))


def test_files_damaged_anywhere_are_read_or_refused_and_never_break_a_scan(tmp_path):
    rng = random.Random(20261018)
    pixels = np.random.default_rng(1).integers(0, 65535, (24, 24)).astype(np.uint16)
    originals = [(path.name, path.read_bytes()) for path in packed(tmp_path, pixels)]
    refused = 0
    for _ in range(600):
        name, content = rng.choice(originals)
        damaged = bytearray(content)
        for _ in range(rng.choice([1, 1, 3, 20])):
            any_byte = rng.randrange(256) if rng.random() < 0.5 else rng.choice(b"0123456789-+.ENDT'= ")
            damaged[rng.randrange(min(len(damaged), 6000))] = any_byte
        if rng.random() < 0.2:
            del damaged[rng.randrange(len(damaged)) :]
        path = tmp_path / f"damaged_{name}"
        path.write_bytes(damaged)
        read = read_file(path, LONDON)
        if read.facts is None:
            refused += 1
            assert read.reason
            assert "could not be understood" not in read.reason
            continue
        facts_from_json(json.loads(json.dumps(facts_to_json(read.facts))))
        try:
            read_pixels(path)
            FileSource(path, name, tmp_path).rows(0, 2)
        except UnreadableFrame as error:
            assert error.message
    assert refused > 60


@pytest.mark.parametrize(
    ("cards", "words"),
    [
        ({"DATE-OBS": "0001-01-01T00:00:00"}, "the clock was not set"), ({"NCOMBINE": 10**15}, "combined"),
        ({"XBINNING": 0}, "binning"), ({"DATE-OBS": "9999-12-31T23:59:59"}, "the clock was not set"),
            ({"DATE-OBS": "1928-05-01T20:00:00"}, "in the year 1928"), ({"DATE-OBS": "31/12/2026"}, "a day without a time"),
    ],
)  # fmt: skip
def test_values_that_cannot_be_are_complained_of(tmp_path, cards, words):
    facts = read_file(write_fits(tmp_path / "x.fits", {**DARK, **cards}), LONDON).facts
    assert facts is not None
    assert words in " ".join(facts.complaints)


@pytest.mark.parametrize("low", [0, 40000])
def test_statistics_of_a_frame_equal_numpy(low):
    rng = np.random.default_rng(2)
    frame = np.clip(rng.normal(low + 500, 300, (301, 200)), 0, 65535).astype(np.uint16)
    stats = frame_statistics(frame, white=41000)
    assert (stats.minimum, stats.maximum, stats.zeros) == (frame.min(), frame.max(), int((frame == 0).sum()))
    assert stats.mean == pytest.approx(frame.mean(dtype=np.float64), rel=1e-12)
    assert stats.median == np.median(frame)
    assert stats.spread == pytest.approx(frame.std(dtype=np.float64), rel=1e-9)
    assert stats.brightest_permille == pytest.approx(np.quantile(frame, 0.999))
    assert stats.saturated_fraction == pytest.approx((frame >= 41000).mean())


def test_a_colour_flat_is_judged_by_its_brightest_channel():
    rng = np.random.default_rng(4)
    frame = rng.normal(10000, 50, (60, 80))
    frame[0::2, 1::2] *= 2.0
    frame = frame.astype(np.uint16)
    judged = flat_statistics(frame, 65535, "RGGB")
    assert judged.median == np.median(frame[0::2, 1::2])
    assert judged.brightest_permille == pytest.approx(np.quantile(frame[0::2, 1::2], 0.999))
    assert judged.weakest_median == min(np.median(frame[r::2, c::2]) for r in (0, 1) for c in (0, 1))
    assert flat_statistics(frame, 65535, None).median == np.median(frame)
    assert flat_statistics(frame, 65535, None).weakest_median is None
    # A bright patch in another channel passes the limit all the same.
    frame[1:20:2, 0:20:2] = 60_000
    assert flat_statistics(frame, 65535, "RGGB").brightest_permille == 60_000
    # Of 1,000 e⁻ in the brightest and 90 in the weakest channel (arithmetic): a share of 0.09, over the pedestal.
    assert starves(channel_share(500 + 90, 500 + 1000, 500))
    assert not starves(channel_share(500 + 400, 500 + 1000, 500))


def test_left_justified_samples_are_told_by_their_step():
    # 12 bits ×16 end at 65,520, 14 bits ×4 at 65,532 (arithmetic).
    rng = np.random.default_rng(3)
    for step in (1, 4, 16):
        frame = (rng.normal(2000, 60, (50, 50)).astype(np.uint16) // step) * step
        assert sample_step(frame) == step
    assert (camera_white(16), camera_white(4)) == (65520, 65532)


def test_pictures_keep_their_end_points():
    pixels = np.linspace(100, 200, 64 * 96, dtype=np.float32).reshape(64, 96)
    assert shrink(pixels, 32).shape == (21, 32)
    made = stretch(pixels, 0, 100)
    assert (made.black, made.white) == (100.0, 200.0)
    assert (made.picture.min(), made.picture.max()) == (0, 255)
    assert stretch(np.full((4, 4), np.nan, np.float32)).picture.max() == 0
