"""Reading FITS headers from files that nobody vouches for.

Only header blocks are read, a bounded number of them, and sizes are checked against the length of the
file before a pixel is touched: a hostile or damaged file costs a few kilobytes, not memory.
FITS Standard 4.0, sections 3 and 4.
"""

from __future__ import annotations

import warnings
from dataclasses import dataclass, replace
from typing import Any, BinaryIO

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.frames.cards import BLOCK, CARD, Cards, CardText

#: 36 cards a block; a header of 10,000 cards is no camera's.
MAX_HEADER_BLOCKS = 280
MAX_EXTENSIONS = 16
MAX_PIXELS = 400_000_000
#: What a packed file may unpack to: the largest frame in 64 bits, and its headers.
MOST_UNPACKED = MAX_PIXELS * 8 + 16_000_000
#: Further axes are looked at up to so many.
MOST_AXES = 9
#: Fewer pixels along a side than this are no camera's frame.
MIN_SIDE = 8


@dataclass(frozen=True)
class ImageHeader:
    """The header of the first image in a FITS file, and where its pixels are."""

    header: Cards
    width: int
    height: int
    bits: int
    """BITPIX of the pixels: 8, 16, 32, −32 or −64."""
    hdu: int
    data_offset: int
    data_bytes: int
    compressed: bool


def read_image_header(stream: BinaryIO, length: int | None) -> ImageHeader:
    """Find and read the header of the first two-dimensional image in a FITS file.

    Parameters
    ----------
    stream
        The file, opened in binary mode, at its start. Must be seekable.
    length
        Size of the (unpacked) file in bytes, or None where it is not known.

    Raises
    ------
    UnreadableFrame
        With a reason a person understands, whatever is wrong.
    """
    if length == 0:
        raise UnreadableFrame("The file is empty (0 bytes).", "Copy it again from where it was taken.")
    start = stream.read(CARD)
    if not start.startswith(b"SIMPLE  ="):
        raise UnreadableFrame(
            "The file does not begin as a FITS file does, whatever its name says.",
            "Open it with what wrote it, or leave it out.",
        )
    stream.seek(0)
    offset = 0
    primary: CardText | None = None
    for number in range(MAX_EXTENSIONS):
        header, header_bytes = _read_header(stream)
        offset += header_bytes
        size = _data_size(header)
        image = _as_image(header, number, offset, size)
        if image is not None:
            if length is not None and offset + image.data_bytes > length:
                raise UnreadableFrame(
                    f"The file is cut off: {image.width} × {image.height} pixels need "
                    f"{offset + image.data_bytes:,} bytes and it has {length:,}.",
                    "Copy it again from where it was taken.",
                )
            return image if primary is None else replace(image, header=header.inheriting(primary))
        primary = primary or header
        offset += -(-size // BLOCK) * BLOCK
        if length is not None and offset >= length:
            break
        if length is None and offset > MOST_UNPACKED:
            raise UnreadableFrame("The packed file would unpack to more than any frame.", "Leave it out.")
        stream.seek(offset)
    raise UnreadableFrame(
        "The file holds a table or a header only, and no picture.",
        "It is left alone; nothing needs to be done.",
    )


def _read_header(stream: BinaryIO) -> tuple[CardText, int]:
    blocks = bytearray()
    for _ in range(MAX_HEADER_BLOCKS):
        block = stream.read(BLOCK)
        if len(block) < BLOCK:
            raise UnreadableFrame(
                "The file is cut off inside its header.", "Copy it again from where it was taken."
            )
        blocks += block
        if b"END" in block and any(block[i : i + CARD].rstrip() == b"END" for i in range(0, BLOCK, CARD)):
            return CardText(bytes(blocks)), len(blocks)
    raise UnreadableFrame("The header does not end within 10,000 cards.", "Leave this file out.")


def card_value(header: Cards, name: str) -> Any:
    """Value of a card, or None where it is absent, blank or cannot be parsed."""
    try:
        if isinstance(header, CardText):
            value = header.get(name)
        else:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                value = header.get(name)
    except Exception:
        # A single malformed card must not cost the frame; what matters is reported as lacking.
        return None
    if isinstance(value, str):
        return value.strip() or None
    # Astropy's word for a card without a value.
    return None if type(value).__name__ == "Undefined" else value


def _int(header: Cards, name: str, default: int = 0) -> int:
    value = card_value(header, name)
    if value is None:
        return default
    if isinstance(value, bool) or not isinstance(value, (int, float)) or value != value:
        raise UnreadableFrame(f"{name} in the header is '{value}', not a number.", "Leave this file out.")
    return int(value)


def _data_size(header: Cards) -> int:
    """Bytes of data that follow a header (FITS Standard 4.0, equations 1 and 2)."""
    axes = _int(header, "NAXIS")
    if not 0 <= axes <= 999:
        raise UnreadableFrame(f"NAXIS in the header is {axes}.", "Leave this file out.")
    if axes == 0:
        return 0
    size = 1
    for axis in range(1, axes + 1):
        length = _int(header, f"NAXIS{axis}")
        if length < 0:
            raise UnreadableFrame(f"NAXIS{axis} in the header is {length}.", "Leave this file out.")
        size *= length
    bytes_each = abs(_int(header, "BITPIX", 8)) // 8
    return bytes_each * max(1, _int(header, "GCOUNT", 1)) * (_int(header, "PCOUNT") + size)


def _as_image(header: Cards, hdu: int, offset: int, size: int) -> ImageHeader | None:
    """Return the image that this header announces, or None where it announces something else."""
    extension = str(card_value(header, "XTENSION") or "")
    compressed = extension == "BINTABLE" and card_value(header, "ZIMAGE") is True
    if extension not in ("", "IMAGE") and not compressed:
        return None
    prefix = "Z" if compressed else ""
    axes = _int(header, f"{prefix}NAXIS")
    if axes == 0:
        return None
    width, height = _int(header, f"{prefix}NAXIS1"), _int(header, f"{prefix}NAXIS2")
    bits = _int(header, f"{prefix}BITPIX")
    further = [_int(header, f"{prefix}NAXIS{axis}") for axis in range(3, min(axes, MOST_AXES) + 1)]
    if further == [3]:
        raise UnreadableFrame(
            "The picture is already in three colours, so it is not a frame as the camera gave it.",
            "It is left alone; nothing needs to be done.",
        )
    # Further axes of one pixel add nothing: some programs write every picture as a cube (common practice, no source).
    if axes < 2 or axes > MOST_AXES or any(length != 1 for length in further):
        raise UnreadableFrame(f"The picture has {axes} axes, where a frame has two.", "Leave this file out.")
    if bits not in (8, 16, 32, 64, -32, -64):
        raise UnreadableFrame(f"BITPIX is {bits}, which FITS does not have.", "Leave this file out.")
    if min(width, height) < MIN_SIDE or width * height > MAX_PIXELS:
        raise UnreadableFrame(
            f"The picture would be {width} × {height} pixels, which no camera's frame is.",
            "Leave this file out.",
        )
    return ImageHeader(header, width, height, bits, hdu, offset, size, compressed)
