"""Rows of a frame's file, read where they lie."""

from __future__ import annotations

import io
import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.errors import UnreadableFrame
from grayshelf.library.files import KEPT_AS, lies_plain, read_header, read_pixels, scaled, scaling_of
from grayshelf.library.full_scale import adu_of_one


class RawRows:
    """Rows of a frame as they lie in its file, which is held open; for one reader at a time."""

    def __init__(self, name: str, stream: io.FileIO, offset: int, row_bytes: int) -> None:
        self._name, self._stream, self._offset, self._row_bytes = name, stream, offset, row_bytes

    def read(self, first: int, into: NDArray[Any]) -> None:
        """Fill an array, shape (rows, width), with the rows from `first` on.

        Raises
        ------
        UnreadableFrame
            Where the file got shorter since its header was read.
        """
        view, at = memoryview(into.data).cast("B"), 0
        self._stream.seek(self._offset + first * self._row_bytes)
        while at < len(view):
            read = self._stream.readinto(view[at:])
            if not read:
                raise UnreadableFrame(
                    f"{self._name} got shorter while it was read.", "Scan its folder again."
                )
            at += read


class FileSource:
    """A frame on disk that hands out rows: read from plain FITS where they lie, packed ones unpacked once.

    Rows are read, not mapped: mapped pages of a whole stack would count as memory.
    """

    def __init__(self, path: Path, name: str, scratch: Path) -> None:
        """`scratch` is a folder of the library's own, for frames that have to be unpacked."""
        self.name = name
        image = read_header(path)
        self.width, self.height = image.width, image.height
        self._path, self._offset = path, image.data_offset
        self._dtype = np.dtype(KEPT_AS[image.bits])
        self._scaling = (scaling_of(image, "BSCALE", 1.0), scaling_of(image, "BZERO", 0.0))
        if lies_plain(path, image):
            adu = adu_of_one(path, image)
            self._scaling = (self._scaling[0] * adu, self._scaling[1] * adu)
        else:
            pixels = np.ascontiguousarray(read_pixels(path), np.float32)
            handle, unpacked = tempfile.mkstemp(dir=scratch, suffix=".part")
            with os.fdopen(handle, "wb") as stream:
                # Not 'tofile', which does not say that the disk is full.
                stream.write(pixels.data)
            self._path, self._offset = Path(unpacked), 0
            self._dtype, self._scaling = np.dtype("f4"), (adu_of_one(path, image, pixels), 0.0)

    @property
    def unsigned_16(self) -> bool:
        """Whether its pixels are unsigned numbers of 16 bits, kept as FITS does (FITS Standard 4.0, table 11)."""
        return self._dtype == np.dtype(">i2") and self._scaling == (1.0, 32768.0)

    @contextmanager
    def raw_rows(self) -> Iterator[RawRows]:
        """Its file held open, to read rows of it as they lie there."""
        with self._path.open("rb", buffering=0) as stream:
            yield RawRows(self.name, stream, self._offset, 2 * self.width)

    def rows(self, first: int, last: int) -> NDArray[np.float32]:
        """Rows first … last−1 as float32, in ADU.

        Raises
        ------
        UnreadableFrame
            Where the file got shorter since its header was read.
        """
        count = (last - first) * self.width
        start = self._offset + first * self.width * self._dtype.itemsize
        raw = np.fromfile(self._path, self._dtype, count, offset=start)
        if raw.size != count:
            raise UnreadableFrame(f"{self.name} got shorter while it was read.", "Scan its folder again.")
        return scaled(raw, self._scaling).reshape(-1, self.width)


def middle_rows(path: Path, count: int) -> NDArray[np.float32]:
    """The rows about the middle of a frame in ADU, read without the rest of it where it is not packed; nothing is written.

    Raises
    ------
    UnreadableFrame
    """
    image = read_header(path)
    first = max(image.height // 2 - count // 2, 0)
    last = min(first + count, image.height)
    if not lies_plain(path, image):
        pixels = read_pixels(path)
        return pixels[first:last].astype(np.float32) * np.float32(adu_of_one(path, image, pixels))
    return FileSource(path, path.name, path.parent).rows(first, last)
