"""How soon a picture is seen, and how often dust and the signs of a correction are found for what they are."""

from __future__ import annotations

import math
import tempfile
import time
from pathlib import Path

import numpy as np
from astropy.io import fits
from PIL import Image
from tests.reference import pictures_of_flats as made

from grayshelf.core.checks.correction import Corrects, correction_of
from grayshelf.core.checks.dust import dust_on
from grayshelf.core.pictures.parts import Whole, tile_of
from grayshelf.library import pictures
from grayshelf.library.file_parts import parts_of
from grayshelf.library.files import read_pixels
from grayshelf.library.views import overview_kept

SEEDS, SHAPE = 30, (800, 1200)


def main() -> None:
    """All of it; the ratio needs no particular machine."""
    previews()
    dust()
    corrections()


def previews() -> None:
    """The first picture of a master of 24 MP in 32 bits, against reading it all, percentiles of all, and resizing."""
    with tempfile.TemporaryDirectory() as folder:
        path, scratch = Path(folder) / "master.fits", Path(folder) / "scratch"
        fits.PrimaryHDU(np.random.default_rng(1).normal(1000, 10, (4000, 6000)).astype("f4")).writeto(path)

        def plain() -> None:
            pixels = read_pixels(path)
            low, high = np.percentile(pixels, (0.5, 99.5))
            gray = (np.clip((pixels - low) / (high - low), 0, 1) * 255).astype(np.uint8)
            Image.fromarray(gray).resize((640, 427), Image.Resampling.BOX)

        def ours() -> None:
            pictures._small.cache_clear()
            pictures._render.cache_clear()
            pictures.picture_of(path, scratch)

        took = {}
        for name, work in (("plain", plain), ("ours", ours)):
            work()
            took[name] = min(_timed(work) for _ in range(5))
        print(
            f"first picture of 24 MP: {1000 * took['ours']:.0f} ms, 1/{took['plain'] / took['ours']:.0f} of the plain way"
        )
        parts = parts_of(path, scratch)
        overview_kept(parts)
        for level in (1, 2, 4):
            took["tile"] = min(_timed(lambda level=level: tile_of(parts, level, 3, 1)) for _ in range(5))
            print(f"a tile at 1:{level}: {1000 * took['tile']:.1f} ms")


def _timed(work: object) -> float:
    began = time.perf_counter()
    work()  # type: ignore[operator]
    return time.perf_counter() - began


def dust() -> None:
    """Shadows found, their place and width, and what is called one and is none."""
    for depth in (0.01, 0.02, None):
        true = found_n = false = off = wide = 0
        for seed in range(SEEDS):
            rng = np.random.default_rng(seed)
            on_it = made.specks(rng, SHAPE, 4, depth, narrowest=20, widest=170)
            found = dust_on(Whole(made.dusty_flat(rng, SHAPE, on_it)))
            for speck in on_it:
                true += 1
                near = [
                    s
                    for s in found
                    if math.hypot(s.x - speck.x, s.y - speck.y) < max(0.3 * speck.diameter, 6)
                ]
                if near:
                    one = max(near, key=lambda s: s.diameter)
                    found.remove(one)
                    found_n += 1
                    off += math.hypot(one.x - speck.x, one.y - speck.y) > 5
                    wide += abs(one.diameter / speck.diameter - 1) > 0.1
            false += len(found)
        deep = f"{100 * depth:.0f} % deep" if depth else "1 to 10 % deep"
        print(
            f"shadows {deep}: {found_n} of {true} found, {off} more than 5 px off, {wide} more than a tenth too wide or "
            f"narrow, {false} that are none in {SEEDS} flats"
        )
    clean = sum(
        len(dust_on(Whole(made.dusty_flat(np.random.default_rng(s), SHAPE, [])))) for s in range(SEEDS)
    )
    print(f"on {SEEDS} clean flats: {clean}")


def corrections() -> None:
    """The sign of what is left of a flat, for three mistakes and none, under skies of five gradients."""
    expected = {
        "none": Corrects.YES, "pedestal left in the light": Corrects.TOO_MUCH,
        "pedestal left in the flat": Corrects.TOO_LITTLE, "flat over-subtracted": Corrects.TOO_MUCH,
    }  # fmt: skip
    for error, says in expected.items():
        right, n = 0, 0
        for seed in range(6):
            for gradient in (-0.5, -0.2, 0.0, 0.2, 0.5):
                rng = np.random.default_rng(seed)
                found = correction_of(*made.calibrated_light(rng, SHAPE, error, gradient))
                right, n = right + (found is not None and found.corrects is says), n + 1
        print(f"{error}: said to be so in {right} of {n}")
