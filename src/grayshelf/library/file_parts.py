"""Parts of a frame's file, read where they lie: nothing of it is held between two looks.

Pixels are read, not mapped: a mapped file that another program cuts off would end the process.
"""

from __future__ import annotations

import tempfile
from copy import copy
from pathlib import Path
from threading import Lock
from typing import IO, Any

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.frames.fits_blocks import ImageHeader
from grayshelf.core.frames.full_scale import FULL_SCALE_ADU
from grayshelf.core.frames.lit_part import LitPart, lit_part
from grayshelf.core.pictures.parts import Parts, Pixels
from grayshelf.library.files import KEPT_AS, lies_plain, read_header, read_pixels, scaled, scaling_of
from grayshelf.library.full_scale import adu_of_one
from grayshelf.library.kept import kept
from grayshelf.library.room import as_disk_full


class FileParts:
    """A frame on disk as a picture of which parts can be had (see `core.pictures.parts.Parts`)."""

    def __init__(self, path: Path, scratch: Path) -> None:
        """Look at the header of a frame; one that is packed is unpacked into a file of `scratch` that has no name."""
        image = read_header(path)
        self.width, self.height = image.width, image.height
        self.lit: LitPart | None = lit_part(image)
        """The part that light can reach; None where that is all of it, as far as its header tells."""
        self.whole = image.bits > 0
        """Whether its levels are whole numbers."""
        self._path, self._offset = path, image.data_offset
        self._dtype = np.dtype(KEPT_AS[image.bits])
        self._scaling = (scaling_of(image, "BSCALE", 1.0), scaling_of(image, "BZERO", 0.0))
        self.whole = self.whole and self._scaling[0] == 1.0
        self.unsigned_16 = image.bits == 16 and self._scaling == (1.0, 32768.0)
        """Whether its levels are whole numbers of 16 bits from 0 on."""
        self._unpacked: IO[bytes] | None = None
        self._one_at_a_time = Lock()
        self.shares = False
        """Whether its file holds shares of full scale (see `full_scale`); its levels are in ADU all the same."""
        if lies_plain(path, image):
            self._in_adu(adu_of_one(path, image))
        else:
            self._unpack(scratch, image)

    def _in_adu(self, adu_of_one: float) -> None:
        self.shares = adu_of_one != 1.0
        self._scaling = (self._scaling[0] * adu_of_one, self._scaling[1] * adu_of_one)

    def in_its_own_unit(self) -> FileParts:
        """The same frame, also where its file holds shares of full scale as its file has it."""
        if not self.shares:
            return self
        own = copy(self)
        own._in_adu(1.0 / FULL_SCALE_ADU)
        own.shares = False
        return own

    @property
    def where_lit(self) -> Parts:
        """The pixels that tell of the light and the sensor: all but those that were read out beside them."""
        return self if self.lit is None else self.lit.of(self)

    def _unpack(self, scratch: Path, image: ImageHeader) -> None:
        kept = read_pixels(self._path)
        self.unsigned_16 = kept.dtype == np.uint16
        pixels = np.ascontiguousarray(kept, np.float32)
        try:
            scratch.mkdir(parents=True, exist_ok=True)
            self._unpacked = tempfile.TemporaryFile(dir=scratch)  # noqa: SIM115 - closed when it is let go of
            self._unpacked.write(pixels.data)
            self._unpacked.flush()
        except OSError as error:
            full = as_disk_full(error, scratch)
            raise (full or error) from error
        self._offset, self._dtype, self._scaling = 0, np.dtype("f4"), (1.0, 0.0)
        self._in_adu(adu_of_one(self._path, image, pixels))

    def part(self, top: int, bottom: int, left: int, right: int) -> Pixels:
        """Rows top … bottom−1 and columns left … right−1, shape (bottom − top, right − left).

        Raises
        ------
        UnreadableFrame
            Where the file is gone, or shorter than it was.
        """
        raw = np.empty((bottom - top, right - left), self._dtype)
        try:
            if self._unpacked is not None:
                with self._one_at_a_time:
                    self._read(self._unpacked, raw, top, left)
            else:
                with self._path.open("rb", buffering=0) as stream:
                    self._read(stream, raw, top, left)
        except FileNotFoundError as error:
            raise UnreadableFrame("The file is no longer there.", "Scan its folder again.") from error
        except OSError as error:
            raise UnreadableFrame(f"The file cannot be read ({error.strerror or error}).", "") from error
        return scaled(raw.ravel(), self._scaling).reshape(raw.shape)

    def _read(self, stream: Any, raw: NDArray[Any], top: int, left: int) -> None:
        wide, size = self.width, self._dtype.itemsize
        # Whole rows lie in one piece.
        pieces = raw.reshape(1, -1) if raw.shape[1] == wide else raw
        for row, piece in enumerate(pieces):
            view = memoryview(piece).cast("B")
            stream.seek(self._offset + ((top + row) * wide + left) * size)
            if stream.readinto(view) != len(view):
                raise UnreadableFrame(
                    "The file got shorter while it was looked at.", "Scan its folder again."
                )


@kept(32)
def _parts_of(path: str, _modified_ns: int, _size: int, scratch: Path) -> FileParts:
    return FileParts(Path(path), scratch)


def parts_of(path: Path, scratch: Path) -> FileParts:
    """A frame's parts; what is known of it is kept until its file changes."""
    try:
        stat = path.stat()
    except OSError as error:
        raise UnreadableFrame("The file is no longer there.", "Scan its folder again.") from error
    return _parts_of(str(path), stat.st_mtime_ns, stat.st_size, scratch)
