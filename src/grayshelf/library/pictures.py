"""Pictures of frames: shrunk, stretched, as PNG."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from grayshelf.core.sensor.stretch import shrink, stretch
from grayshelf.library.files import read_pixels
from grayshelf.library.kept import kept

SIZES = (160, 320, 640, 1280)


@dataclass(frozen=True)
class Picture:
    """A PNG and the levels that are black and white in it."""

    png: bytes
    black: float
    white: float
    width: int
    height: int


@kept(96)
def _render(path: str, _modified_ns: int, longest: int) -> Picture:
    # Loaded with the first picture: the start need not wait for it.
    from PIL import Image

    stretched = stretch(shrink(read_pixels(Path(path)).astype(np.float32, copy=False), longest))
    buffer = io.BytesIO()
    Image.fromarray(stretched.picture).save(buffer, "PNG", compress_level=4)
    height, width = stretched.picture.shape
    return Picture(buffer.getvalue(), stretched.black, stretched.white, width, height)


def picture_of(path: Path, longest: int = 640) -> Picture:
    """The picture of a frame; kept until the file changes."""
    size = min((s for s in SIZES if s >= longest), default=SIZES[-1])
    return _render(str(path), path.stat().st_mtime_ns, size)
