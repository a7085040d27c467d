"""Pictures of frames: shrunk, stretched, as PNG."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path

from grayshelf.core.pictures.parts import Pixels, overview_of
from grayshelf.core.pictures.stretch import shrink, stretch
from grayshelf.library.file_parts import parts_of
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


@kept(24)
def _small(path: str, _modified_ns: int, scratch: Path) -> Pixels:
    # No smaller than the largest size that is asked for: of that all are made.
    return overview_of(parts_of(Path(path), scratch), 2 * SIZES[-1])


@kept(96)
def _render(path: str, modified_ns: int, longest: int, scratch: Path) -> Picture:
    # Loaded with the first picture: the start need not wait for it.
    from PIL import Image

    stretched = stretch(shrink(_small(path, modified_ns, scratch), longest))
    buffer = io.BytesIO()
    Image.fromarray(stretched.picture).save(buffer, "PNG", compress_level=4)
    height, width = stretched.picture.shape
    return Picture(buffer.getvalue(), stretched.black, stretched.white, width, height)


def picture_of(path: Path, scratch: Path, longest: int = 640) -> Picture:
    """The picture of a frame; kept until the file changes.

    Parameters
    ----------
    scratch
        A folder of the library's own, for frames that have to be unpacked.
    longest
        Of its sides, in pixels.
    """
    size = min((s for s in SIZES if s >= longest), default=SIZES[-1])
    return _render(str(path), path.stat().st_mtime_ns, size, scratch)
