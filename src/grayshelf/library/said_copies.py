"""What was said by hand, written into copies: their headers say it to any program, their pixels are as they were."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO
from zoneinfo import ZoneInfo

from grayshelf.core.errors import Conflict, GrayShelfError, UnreadableFrame
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.headers import read_facts
from grayshelf.core.frames.write import ascii_text, frame_header
from grayshelf.library.files import lies_plain, read_header, write_new
from grayshelf.library.folders import FITS_SUFFIXES

_PIECE = 1 << 20
#: The cards of a frame's header that say each value, by the name of its fact.
_CARDS = {
    "kind": ("IMAGETYP",),
    "camera": ("INSTRUME",),
    "telescope": ("TELESCOP",),
    "focal_length_mm": ("FOCALLEN",),
    "filter_code": ("FILTER",),
    "target": ("OBJECT",),
    "exposure_s": ("EXPTIME",),
    "gain": ("GAIN",),
    "offset": ("OFFSET",),
    "binning": ("XBINNING", "YBINNING"),
    "binning_x": ("XBINNING", "YBINNING"),
    "sensor_temp_c": ("CCD-TEMP",),
    "angle": ("ROTATOR",),
    "focus": ("FOCUSPOS",),
    "utc": ("DATE-OBS",),
}
#: No header says it: a night follows from the time of exposure.
_NOT_IN_HEADERS = ("night",)


def copy_with_said(source: Path, target: Path, facts: FrameFacts, check: Callable[[], None]) -> None:
    """Copy a frame, its header told what was said of it by hand; the source is only read.

    Parameters
    ----------
    facts
        All that is known of it, with what was said.

    Raises
    ------
    GrayShelfError
        Where it cannot be written into this file; nothing of the copy is left then.
    DiskFull
    """
    if not source.name.lower().endswith(FITS_SUFFIXES):
        raise UnreadableFrame("Only plain FITS files can be told it in their headers.", "Convert it first.")
    image = read_header(source)
    if image.hdu != 0 or not lies_plain(source, image):
        raise UnreadableFrame("Its picture lies packed, or behind another: its header is left alone.")
    header = _told(source, image.data_offset, facts)

    def write(stream: BinaryIO) -> None:
        stream.write(header)
        with source.open("rb") as reading:
            reading.seek(image.data_offset)
            while piece := reading.read(_PIECE):
                check()
                stream.write(piece)

    write_new(target, write)
    try:
        _check(target, source.name, facts)
    except GrayShelfError:
        target.unlink()
        raise


def _told(source: Path, data_offset: int, facts: FrameFacts) -> bytes:
    from astropy.io import fits

    with source.open("rb") as stream:
        header = fits.Header.fromstring(stream.read(data_offset).decode("latin-1"))
    ours, said = frame_header(facts), []
    for name in facts.by_hand:
        for keyword in _CARDS.get(name, ()):
            if keyword in ours:
                header[keyword] = (ours[keyword], ours.comments[keyword])
                said.append(keyword)
    if "kind" in facts.by_hand and "FRAME" in header:
        del header["FRAME"]
    # Of the whole header it holds no more; that of the pixels does.
    header.remove("CHECKSUM", ignore_missing=True)
    header.add_history(ascii_text(f"Gray Shelf: said by hand: {', '.join(dict.fromkeys(said)) or 'nothing'}"))
    return header.tostring().encode("latin-1")


def _check(target: Path, name: str, facts: FrameFacts) -> None:
    """The copy's header, read as any file's, must say all that was said.

    Raises
    ------
    Conflict
    """
    now = read_facts(read_header(target), name, ZoneInfo("UTC"))
    for said in facts.by_hand:
        if said in _NOT_IN_HEADERS:
            continue
        before, after = getattr(facts, said, None), getattr(now, said, None)
        same = (
            abs(before - after) < 1e-6
            if isinstance(before, (int, float)) and isinstance(after, (int, float))
            else _plain(before) == _plain(after)
        )
        if not same:
            raise Conflict(
                f"Its header goes on saying another {said.replace('_', ' ')}, by a keyword that is read before ours.",
                "It is told right here all the same; this copy was not made.",
            )


def _plain(value: object) -> object:
    return round(value.deg, 1) if hasattr(value, "deg") else value
