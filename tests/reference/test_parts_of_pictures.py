"""What is found in a picture does not hang on how many of its rows are held at a time, nor on where it lies.

Medians and percentiles are held against NumPy's, checksums against Astropy's reader.
"""

from __future__ import annotations

import dataclasses
import io
import warnings

import numpy as np
import pytest
from astropy.io import fits
from hypothesis import given, settings
from hypothesis import strategies as st

from grayshelf.core.checks.defects import defects_of
from grayshelf.core.checks.figures import master_figures
from grayshelf.core.checks.looks import hottest, look_at, medians_of_squares
from grayshelf.core.checks.stars import stars_on
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.write import InputRecord, write_frame, write_master
from grayshelf.core.pictures import parts as rows_at_a_time
from grayshelf.core.pictures.parts import Whole
from grayshelf.core.pictures.quantiles import quantile_of
from grayshelf.core.pictures.stretch import stretch
from grayshelf.library.file_parts import FileParts
from grayshelf.library.files import write_new


def _frame(rng, level=600, height=211, width=157):
    pixels = rng.normal(level, 9, (height, width)) * (1 + 0.1 * np.linspace(-1, 1, width) ** 2)
    pixels[rng.random(pixels.shape) < 0.003] += 4_000
    for y, x in ((40, 50), (120, 100), (160, 30), (9, 140), (200, 80)):
        pixels[y - 2 : y + 3, x - 2 : x + 3] += 900
    return pixels.clip(0, 65_535).astype(np.uint16)


def _all_told(pictures, kind):
    """Everything that is found in a picture, as plain values."""
    picture, lit = pictures[0], kind is FrameKind.FLAT
    at = hottest(pictures)
    look = dataclasses.asdict(look_at(picture, 65_535, lit=lit, hot_at=at))
    found = defects_of(picture, kind)
    stars = stars_on(picture, look["level"], look["noise"])
    figures = [dataclasses.astuple(f) for f in master_figures(picture, kind)]
    return look, [at, medians_of_squares(picture, 20), *dataclasses.astuple(found)], stars, figures


@pytest.mark.parametrize("kind", [FrameKind.DARK, FrameKind.FLAT])
@pytest.mark.parametrize("master", [False, True])
def test_the_same_is_found_however_few_rows_are_held_and_in_a_file_as_in_memory(
    monkeypatch, tmp_path, kind, master
):
    rng = np.random.default_rng(12)
    pictures = [_frame(rng) for _ in range(3)]
    if master:
        pictures = [np.where(rng.random(p.shape) < 0.001, np.nan, p).astype(np.float32) for p in pictures]
    whole = _all_told(pictures, kind)
    files = []
    for i, pixels in enumerate(pictures):
        path = tmp_path / f"{i}.fits"
        write = (lambda s, p: write_master(s, p, fits.Header(), [], [])) if master else (
            lambda s, p: write_frame(s, p, fits.Header())
        )  # fmt: skip
        write_new(path, lambda stream, w=write, p=pixels: w(stream, p))
        files.append(FileParts(path, tmp_path))
    monkeypatch.setattr(rows_at_a_time, "AT_A_TIME", 157 * 9)
    for others in (pictures, files):
        look, arrays, stars, figures = _all_told(others, kind)
        for name, value in whole[0].items():
            np.testing.assert_allclose(look[name], value, rtol=1e-6, err_msg=name)
        for one, other in zip(arrays, whole[1], strict=True):
            np.testing.assert_allclose(one, other, rtol=1e-6)
        assert [(s.size, s.place) for s in stars] == [(s.size, s.place) for s in whole[2]]
        for one, other in zip(figures, whole[3], strict=True):
            assert one[0] == other[0] and one[1] == pytest.approx(other[1], rel=1e-6)
    assert whole[2][0].size >= 5 and whole[1][2].size > 50


@settings(max_examples=60, deadline=None)
@given(
    st.integers(0, 10_000),
    st.sampled_from([0.0001, 0.16, 0.5, 0.84, 1.0]),
    st.sampled_from(["noise", "steps", "halves", "one level"]),
    st.booleans(),
)
def test_a_quantile_is_numpys(seed, share, shape, holes):
    rng = np.random.default_rng(seed)
    pixels = {
        "noise": rng.normal(500, 10, (90, 61)),
        "steps": np.rint(rng.normal(500, 1, (90, 61))),
        "halves": np.where(np.arange(90)[:, None] < rng.integers(1, 89), 100.0, 9e4) + np.zeros((90, 61)),
        "one level": np.full((90, 61), 7.0),
    }[shape].astype(np.float32)
    if holes:
        pixels[rng.random(pixels.shape) < 0.2] = np.nan
    with pytest.MonkeyPatch.context() as patch:
        # A sample so small that it misleads: the answer is exact all the same.
        patch.setattr("grayshelf.core.pictures.quantiles.SAMPLE", 40)
        patch.setattr(rows_at_a_time, "AT_A_TIME", 61 * 7)
        assert quantile_of(Whole(pixels), share) == pytest.approx(np.nanquantile(pixels, share), rel=1e-6)
        away = np.abs(pixels - np.float32(500))
        assert quantile_of(Whole(pixels), share, about=500) == pytest.approx(
            np.nanquantile(away, share), rel=1e-6
        )


def test_nothing_known_has_no_quantile():
    assert np.isnan(quantile_of(Whole(np.full((3, 4), np.nan, np.float32)), 0.5))


@pytest.mark.parametrize("seed", range(12))
def test_a_masters_checksums_are_those_of_the_standard(seed, monkeypatch):
    """FITS Standard 4.0, 4.4.2.7: Astropy reads them without a warning, and warns where a byte is another."""
    if seed % 2:
        # Several strips, as those of a real sensor.
        monkeypatch.setattr("grayshelf.core.pictures.parts.AT_A_TIME", 500)
    rng = np.random.default_rng(seed)
    stream = io.BytesIO()
    pixels = rng.normal(1, 0.2, (int(rng.integers(32, 60)), int(rng.integers(32, 90)))).astype(np.float32)
    header = fits.Header({"OBJECT": "x" * seed, "GSNOISE": float(rng.random())})
    inputs = [InputRecord(f"{i}", "a" * 64, True, 1.0, 0.0) for i in range(3)]
    write_master(stream, pixels, header, inputs, ["Combined"])
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        with fits.open(io.BytesIO(stream.getvalue()), checksum=True) as hdus:
            np.testing.assert_array_equal(hdus[0].data, pixels)
            assert len(hdus["INPUTS"].data) == 3
    damaged = bytearray(stream.getvalue())
    damaged[5_000] ^= 1
    with (
        pytest.warns(UserWarning, match="verification failed"),
        fits.open(io.BytesIO(damaged), checksum=True),
    ):
        pass


def test_a_frame_of_one_level_is_shown_gray():
    """As of a test shot that is full: it is not dark."""
    full = stretch(np.full((20, 30), 65_535.0, np.float32))
    assert (full.picture == 128).all() and full.black == full.white == 65_535.0
