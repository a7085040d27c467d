"""Memory and speed of combining: stacks of different depth in processes of their own, and astropy beside it."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import ccdproc
import numpy as np
from astropy.nddata import CCDData
from astropy.stats import sigma_clip

from grayshelf.core.frames.write import write_frame
from grayshelf.core.masters.combine import CombineSettings, combine, combine_into
from grayshelf.library.file_rows import FileSource
from grayshelf.library.files import write_new

CHILD = """
import json, sys, time
from pathlib import Path
from grayshelf.core.masters.combine import combine_into
from grayshelf.library.file_rows import FileSource
path, n = Path(sys.argv[1]), int(sys.argv[2])
sources = [FileSource(path, f"{i}", path.parent) for i in range(n)]
begun = time.perf_counter()
combine_into(lambda rows: None, sources, scale_to_median=sys.argv[3] == "flats")
seconds = time.perf_counter() - begun
# Not what 'getrusage' tells: that counts what the process held that began this one.
held = next(line for line in open("/proc/self/status") if line.startswith("VmHWM"))
print(json.dumps([float(held.split()[1]) / 1e6, seconds]))
"""


def _peak(path: Path, n: int, kind: str) -> tuple[float, float]:
    out = subprocess.run(
        [sys.executable, "-c", CHILD, str(path), str(n), kind], capture_output=True, text=True, check=True
    )
    gigabytes, seconds = json.loads(out.stdout)
    return gigabytes, seconds


def _seconds(work: Callable[[], object], times: int = 3) -> float:
    """The best of a few."""
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        found.append(time.perf_counter() - begun)
    return min(found)


def _ratios(folder: Path) -> None:
    """30 frames of 24 MP beside only reading their bytes; ccdproc and numpy beside it on an eighth of their pixels, times
    eight, since what they take goes with the pixels.

    ccdproc also returns an uncertainty and a mask, and works in one thread and in 64 bits; it is given the pixels in memory.
    """
    from astropy.io import fits

    paths, rng = [], np.random.default_rng(2)
    noise = rng.normal(500, 12, (4000, 6000)).astype(np.uint16)
    for i in range(30):
        paths.append(folder / f"r{i}.fits")
        # Each frame's pixels are those of one, moved: at each place there are thirty others.
        pixels = np.roll(noise, (131 * i, 977 * i), (0, 1))
        write_new(paths[-1], lambda stream, p=pixels: write_frame(stream, p, fits.Header()))
    sources = [FileSource(path, path.name, folder) for path in paths]
    stack = [CCDData(source.rows(0, 500), unit="adu") for source in sources]
    cube = np.array([c.data for c in stack])
    buffer = bytearray(1 << 22)

    def read() -> None:
        for path in paths:
            with path.open("rb", buffering=0) as stream:
                while stream.readinto(buffer):
                    pass

    def ours(settings: CombineSettings) -> float:
        return _seconds(lambda: combine_into(lambda rows: None, sources, settings))

    reading = _seconds(read)
    once = CombineSettings(spread="std", kappa=3.0, rounds=1)
    found = {
        "default": ours(CombineSettings()),
        "up to 3 rounds of 3 sigma about the median": ours(CombineSettings(spread="std", kappa=3.0)),
        "one round of 3 sigma about the median": ours(once),
        "median": ours(CombineSettings(method="median")),
    }
    clip = {
        "sigma_clip": True,
        "sigma_clip_low_thresh": 3,
        "sigma_clip_high_thresh": 3,
        "sigma_clip_func": np.ma.median,
    }
    theirs = 8 * _seconds(lambda: ccdproc.combine(stack, method="average", **clip), 1)
    their_median = 8 * _seconds(lambda: ccdproc.combine(stack, method="median"), 1)
    numpy_median = 8 * _seconds(lambda: np.median(cube, axis=0), 1)
    print(f"30 frames of 24 MP; reading their bytes {reading:.3f} s")
    for name, seconds in found.items():
        print(f"  {name}: {seconds:.2f} s, {seconds / reading:.1f} times the reading")
    clipped, median = found["one round of 3 sigma about the median"], found["median"]
    print(f"  ccdproc, one round of 3 sigma: {theirs:.0f} s, {theirs / clipped:.0f} times as long")
    print(f"  ccdproc, median: {their_median:.0f} s, {their_median / median:.0f} times as long")
    print(f"  np.median: {numpy_median:.1f} s, {numpy_median / median:.0f} times as long")


def main() -> None:
    from astropy.io import fits

    rng = np.random.default_rng(1)
    with tempfile.TemporaryDirectory() as folder:
        print("peak memory of a whole process, by depth and size of the stack (limit: 0.51 GB)")
        for megapixels, shape in ((24, (4000, 6000)), (60, (6400, 9400))):
            path = Path(folder) / f"{megapixels}.fits"
            pixels = rng.normal(500, 12, shape).astype(np.uint16)
            write_new(path, lambda stream, p=pixels: write_frame(stream, p, fits.Header()))
            del pixels
            for n, kind in ((20, "darks"), (100, "darks"), (20, "flats")):
                if megapixels == 60 and n == 100:
                    continue
                gigabytes, seconds = _peak(path, n, kind)
                print(f"  {n:4} {kind} of {megapixels} MP: {gigabytes:.2f} GB, {seconds:.1f} s")
        _ratios(Path(folder))
        small = rng.normal(500, 12, (30, 500, 800)).astype(np.uint16)
        sources = []
        for i, frame in enumerate(small):
            path = Path(folder) / f"s{i}.fits"
            write_new(path, lambda stream, f=frame: write_frame(stream, f, fits.Header()))
            sources.append(FileSource(path, path.name, Path(folder)))
        combine(sources[:3])
        begun = time.perf_counter()
        ours = combine(sources).pixels
        mine = time.perf_counter() - begun
        begun = time.perf_counter()
        clipped = sigma_clip(small.astype(np.float64), sigma=3, maxiters=3, cenfunc="median", axis=0)
        theirs = np.ma.mean(clipped, axis=0)
        other = time.perf_counter() - begun
        print(
            f"30 frames of 0.4 MP: {mine:.2f} s; astropy.stats.sigma_clip and mean {other:.2f} s, {other / mine:.1f} times as long"
        )
        print(f"largest difference {float(np.abs(ours - theirs).max()):.2g} ADU")
