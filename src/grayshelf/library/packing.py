"""Frames packed losslessly into `.fits.fz`, and unpacked again byte for byte.

The form is the tile compression of the open standard (FITS Standard 4.0, section 10), which any FITS library reads:
Rice for whole numbers, and GZIP without any rounding for floating point. The header blocks, as they were written, are
kept beside the picture, so that what is unpacked is the file that was packed, to the last byte.
"""

from __future__ import annotations

import hashlib
import io
import warnings
from pathlib import Path
from typing import Any, BinaryIO
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.frames.cards import BLOCK
from grayshelf.core.frames.fits_blocks import ImageHeader, card_value
from grayshelf.core.frames.headers import read_facts
from grayshelf.library.files import lies_plain, read_header, scaling_of, write_new
from grayshelf.library.folders import FITS_SUFFIXES

#: What a packed file's name ends with, after the name that it had.
PACKED_ENDING = ".fz"
#: The extension in which the header blocks lie as they were.
_AS_IT_WAS = "HEADER AS IT WAS"
#: Whole numbers without a sign, as the standard keeps them (FITS Standard 4.0, table 11).
_UNSIGNED = (1.0, 32768.0)


class NotPacked(Exception):
    """A file stays as it is; its text says why, in a sentence."""


def can_be_packed(name: str) -> bool:
    """Whether a file's name is that of a plain FITS file."""
    return name.lower().endswith(FITS_SUFFIXES)


def pack(source: Path, target: Path, sha256: str | None = None) -> tuple[str, str]:
    """Pack a frame into a new file, and prove by unpacking it that nothing is lost.

    Parameters
    ----------
    source
        A FITS file of one picture, at most as large as the memory holds twice.
    sha256
        What the file was when the library took it in, where that is known.

    Returns
    -------
    SHA-256 of what was packed, and of the packed file.

    Raises
    ------
    NotPacked, DiskFull, Conflict
    """
    whole = source.read_bytes()
    before = hashlib.sha256(whole).hexdigest()
    if sha256 is not None and before != sha256:
        raise NotPacked("It is not what it was when it came into the library. Check its disk.")
    packed = _packed(source, whole)
    if len(packed) >= len(whole):
        raise NotPacked("Packed it would not be smaller.")
    after = write_new(target, lambda stream: _write(stream, packed))
    try:
        _same_frame(source, target)
        if hashlib.sha256(unpacked(target)).hexdigest() != before:
            raise NotPacked("Unpacked it would not be the same file, byte for byte.")
    except BaseException:
        target.unlink()
        raise
    return before, after


def _write(stream: BinaryIO, data: bytes) -> None:
    stream.write(data)


def _packed(source: Path, whole: bytes) -> bytes:
    from astropy.io import fits

    image = _plain_header(source)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            with fits.open(
                io.BytesIO(whole), memmap=False, do_not_scale_image_data=not _is_unsigned(image)
            ) as hdus:
                if len(hdus) > 1 or image.hdu != 0:
                    raise NotPacked("It holds more than one picture or table.")
                floating = hdus[0].data.dtype.kind == "f"
                picture = fits.CompImageHDU(
                    hdus[0].data,
                    hdus[0].header,
                    compression_type="GZIP_2" if floating else "RICE_1",
                    quantize_level=0.0,
                )
                blocks = np.frombuffer(whole[: image.data_offset], np.uint8)
                kept = fits.ImageHDU(blocks, name=_AS_IT_WAS)
                out = io.BytesIO()
                fits.HDUList([fits.PrimaryHDU(), picture, kept]).writeto(out)
        except NotPacked:
            raise
        except Exception as error:
            raise NotPacked(f"Its header keeps it from being packed ({error}).") from error
    return out.getvalue()


def _plain_header(source: Path) -> ImageHeader:
    try:
        image = read_header(source)
        scaling = scaling_of(image, "BSCALE", 1.0), scaling_of(image, "BZERO", 0.0)
    except UnreadableFrame as error:
        raise NotPacked(error.message) from error
    if not lies_plain(source, image) or image.bits == 64:
        raise NotPacked("Its pixels are kept in a way that is not packed here.")
    if scaling != (1.0, 0.0) and not _is_unsigned(image):
        raise NotPacked("Its pixels are scaled by its header in a way that is not packed here.")
    return image


def _is_unsigned(image: ImageHeader) -> bool:
    scale, zero = card_value(image.header, "BSCALE"), card_value(image.header, "BZERO")
    return image.bits == 16 and (1.0 if scale is None else scale, zero) == _UNSIGNED


def _same_frame(source: Path, target: Path) -> None:
    """What headers tell of a frame must be told by the packed one, too: other programs read only that."""
    utc = ZoneInfo("UTC")
    before, after = (read_facts(read_header(path), source.name, utc) for path in (source, target))
    if before != after:
        raise NotPacked("Packed, its header would not tell all that it tells now.")


def unpacked(path: Path) -> bytes:
    """The file that was packed here, byte for byte.

    Raises
    ------
    NotPacked
        Where it was packed by another program, or is damaged.
    """
    from astropy.io import fits

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with fits.open(path, memmap=False, do_not_scale_image_data=True, uint=False) as hdus:
                blocks: NDArray[Any] = hdus[_AS_IT_WAS].data
                pixels: NDArray[Any] = hdus[1].data
                data = blocks.tobytes() + pixels.astype(pixels.dtype.newbyteorder(">")).tobytes()
    except Exception as error:
        raise NotPacked(f"{path.name} could not be unpacked ({error}).") from error
    return data + b"\0" * (-len(data) % BLOCK)


def unpack(source: Path, target: Path, sha256: str | None) -> None:
    """Write the file that was packed here as it was; the packed one stays.

    Parameters
    ----------
    sha256
        What it was.

    Raises
    ------
    NotPacked, DiskFull, Conflict
    """
    data = unpacked(source)
    if sha256 is not None and hashlib.sha256(data).hexdigest() != sha256:
        raise NotPacked(f"Unpacked, {source.name} would not be what it was. Its disk may be failing.")
    written = write_new(target, lambda stream: _write(stream, data))
    assert sha256 is None or written == sha256
