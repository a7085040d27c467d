"""Writing frames and masters as FITS that any program reads (FITS Standard 4.0)."""

from __future__ import annotations

import io
import math
import unicodedata
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING, BinaryIO

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.frames.cards import BLOCK
from grayshelf.core.frames.checksum import encoded, ones_complement_sum
from grayshelf.core.frames.facts import SAID_CARD, SCALED_CARD, FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.pictures.parts import Parts, Picture, as_parts, strips

if TYPE_CHECKING:
    from astropy.io import fits

IMAGETYP = {
    FrameKind.BIAS: "Bias Frame",
    FrameKind.DARK: "Dark Frame",
    FrameKind.FLAT: "Flat Field",
    FrameKind.DARK_FLAT: "Dark Flat",
    FrameKind.LIGHT: "Light Frame",
}
_MASTER_IMAGETYP = {kind: f"Master {kind.value.title()}" for kind in FrameKind}


#: Another word of the trade for flats, read back by `is_of_the_sky`.
_SKY_FLAT = "Sky Flat"


def _imagetyp(facts: FrameFacts) -> str | None:
    if facts.kind is FrameKind.FLAT and facts.of_sky:
        return f"Master {_SKY_FLAT}" if facts.is_master else _SKY_FLAT
    of_several = facts.is_master or facts.stacked
    return (_MASTER_IMAGETYP if of_several else IMAGETYP).get(facts.kind) if facts.kind else None


#: Characters of a text in one card (FITS Standard 4.0, 4.2.1).
MOST_IN_CARD = 68
#: Letters of the trade that are no Latin ones: 'Hα', 'Hβ'.
_GREEK = str.maketrans({"α": "a", "β": "b", "γ": "g", "λ": "l", "µ": "u", "μ": "u"})


def ascii_text(text: str) -> str:
    """A text as a card can hold it: printable ASCII (FITS Standard 4.0, 4.2.1), letters without their marks."""
    plain = unicodedata.normalize("NFKD", text.translate(_GREEK)).encode("ascii", "ignore").decode()
    return "".join(c if " " <= c <= "~" else " " for c in plain).strip()


def utc_text(moment: datetime) -> str:
    """UTC without a zone letter, as the Standard has it."""
    return moment.astimezone(UTC).replace(tzinfo=None).isoformat(timespec="milliseconds")


def said_in_card(facts: FrameFacts) -> str | None:
    """Names of the values that a person said, as one card holds them; None where there are none."""
    return ",".join(facts.by_hand)[:MOST_IN_CARD] or None


def frame_header(facts: FrameFacts, extra: Mapping[str, tuple[object, str]] | None = None) -> fits.Header:
    """The header of a frame: everything that is known of it, each card with a comment."""
    from astropy.io import fits

    header = fits.Header()
    cards: list[tuple[str, object, str]] = [
        ("IMAGETYP", _imagetyp(facts), "kind of frame"),
        ("INSTRUME", facts.camera, "camera"),
        ("EXPTIME", facts.exposure_s, "[s] exposure"),
        ("DATE-OBS", utc_text(facts.utc) if facts.utc else None, "UTC, start of exposure"),
        ("GAIN", facts.gain, "gain setting of the camera"),
        ("OFFSET", facts.offset, "offset setting of the camera"),
        ("XBINNING", facts.binning_x, "binning in x"),
        ("YBINNING", facts.binning_y, "binning in y"),
        ("XORGSUBF", facts.corner_x, "[pixel] first column on the sensor"),
        ("YORGSUBF", facts.corner_y, "[pixel] first row on the sensor"),
        ("TRIMSEC", facts.lit_section, "columns and rows that light can reach"),
        ("READOUTM", facts.read_mode, "read-out mode"),
        ("CCD-TEMP", facts.sensor_temp_c, "[degC] sensor temperature"),
        ("SET-TEMP", facts.set_temp_c, "[degC] set point"),
        ("XPIXSZ", facts.pixel_um, "[um] pixel size"),
        ("EGAIN", facts.electrons_per_adu, "[e-/ADU] system gain"),
        ("BAYERPAT", facts.bayer_pattern, "colour pattern"),
        ("ROWORDER", facts.row_order, "order of the rows"),
        ("PEDESTAL", facts.pedestal_adu, "[ADU] level added"),
        ("TELESCOP", facts.telescope, "telescope"),
        ("FOCALLEN", facts.focal_length_mm, "[mm] focal length"),
        ("APTDIA", facts.aperture_mm, "[mm] aperture"),
        ("FILTER", facts.filter_code, "filter"),
        ("OBJECT", facts.target, "target"),
        ("FOCUSPOS", facts.focus, "[steps] focuser position"),
        (
            "ROTATOR",
            facts.angle.deg if facts.angle and facts.angle.of == "mechanical" else None,
            "[deg] rotator",
        ),
        ("AMBTEMP", facts.air_temp_c, "[degC] air temperature"),
        ("NCOMBINE", facts.n_combined, "frames combined"),
        (SCALED_CARD, facts.scaled_from_s, "[s] exposure that it was scaled from"),
        (SAID_CARD, said_in_card(facts), "by hand"),
    ]
    for name, value, comment in cards:
        if value is not None:
            header[name] = (ascii_text(value) if isinstance(value, str) else value, comment)
    for name, (value, comment) in (extra or {}).items():
        header[name] = (value, comment)
    return header


def write_frame(stream: BinaryIO, pixels: NDArray[np.uint16], header: fits.Header) -> None:
    """Write a 16-bit unsigned frame: BITPIX 16, BZERO 32768."""
    from astropy.io import fits

    fits.PrimaryHDU(pixels, header).writeto(stream, output_verify="exception", checksum=True)


@dataclass(frozen=True)
class InputRecord:
    """One frame that went into a master, or was kept out of it."""

    name: str
    sha256: str
    used: bool
    level_adu: float
    clipped_fraction: float
    reason: str = ""
    mean_adu: float | None = None
    """Of the steady pixels, finer than the converter's steps."""
    noise_adu: float | None = None
    """Temporal noise of a pixel, from neighbours."""
    temp_c: float | None = None
    """Of the sensor, as its header tells."""


def _or_nan(value: float | None) -> float:
    return math.nan if value is None else value


def write_master(
    stream: BinaryIO,
    picture: Picture,
    header: fits.Header,
    inputs: Sequence[InputRecord],
    history: Sequence[str],
) -> None:
    """Write a float32 master, some rows at a time; its inputs, with their hashes, follow as the table INPUTS."""
    header = header.copy()
    for line in history:
        header.add_history(ascii_text(line))
    parts = as_parts(picture)
    datasum = 0
    for strip in strips(parts):
        datasum = ones_complement_sum(strip.astype(">f4"), datasum)
    stream.write(_image_header(parts.width, parts.height, header, datasum))
    _write_rows(stream, parts)
    stream.write(_table_of(inputs))


def float_frame(picture: Picture, header: fits.Header) -> Iterator[bytes]:
    """A float32 frame as FITS, in pieces of some rows: its header, its pixels, and what fills up the last block."""
    parts = as_parts(picture)
    yield _image_header(parts.width, parts.height, header, None)
    for strip in strips(parts):
        yield bytes(kept_rows(strip))
    yield bytes(-(4 * parts.width * parts.height) % BLOCK)


def start_rows(stream: BinaryIO, width: int, height: int) -> None:
    """Begin a frame of float32 whose rows are written afterwards, as `kept_rows` gives them; see `end_rows`."""
    from astropy.io import fits

    stream.write(_image_header(width, height, fits.Header(), None))


def kept_rows(rows: NDArray[np.float32]) -> memoryview:
    """Rows as FITS keeps them."""
    return np.ascontiguousarray(rows, ">f4").data


def end_rows(stream: BinaryIO, width: int, height: int) -> None:
    """Fill up the last block of a frame of float32."""
    stream.write(bytes(-(4 * width * height) % BLOCK))


def _write_rows(stream: BinaryIO, parts: Parts) -> None:
    for strip in strips(parts):
        stream.write(kept_rows(strip))
    end_rows(stream, parts.width, parts.height)


def _image_header(width: int, height: int, header: fits.Header, datasum: int | None) -> bytes:
    """The header of float32 pixels that follow, as bytes; with checksums where the sum of the pixels is known."""
    from astropy.io import fits

    # Of the picture only its size is looked at: nothing is made of it.
    whole = fits.PrimaryHDU(np.broadcast_to(np.array(0, ">f4"), (height, width)), header)
    told = whole.header
    whole.verify("exception")
    if datasum is None:
        return told.tostring().encode("ascii")
    told.set("EXTEND", True, "a table follows", after=f"NAXIS{told['NAXIS']}")
    told["CHECKSUM"] = ("0" * 16, "of header and pixels")
    told["DATASUM"] = (str(datasum), "of the pixels")
    told["CHECKSUM"] = encoded(ones_complement_sum(told.tostring().encode("ascii"), datasum))
    return told.tostring().encode("ascii")


def _table_of(inputs: Sequence[InputRecord]) -> bytes:
    from astropy.io import fits

    names = [ascii_text(i.name) for i in inputs]
    reasons = [ascii_text(i.reason) for i in inputs]
    columns = [
        fits.Column("NAME", f"{max([len(n) for n in names] + [1])}A", array=names),
        fits.Column("SHA256", "64A", array=[i.sha256 for i in inputs]),
        fits.Column("USED", "L", array=[i.used for i in inputs]),
        fits.Column("LEVEL", "D", unit="adu", array=[i.level_adu for i in inputs]),
        fits.Column("CLIPPED", "D", array=[i.clipped_fraction for i in inputs]),
        fits.Column("REASON", f"{max([len(r) for r in reasons] + [1])}A", array=reasons),
        fits.Column("MEAN", "D", unit="adu", array=[_or_nan(i.mean_adu) for i in inputs]),
        fits.Column("NOISE", "D", unit="adu", array=[_or_nan(i.noise_adu) for i in inputs]),
        fits.Column("CCDTEMP", "D", unit="degC", array=[_or_nan(i.temp_c) for i in inputs]),
    ]
    table = fits.BinTableHDU.from_columns(columns, name="INPUTS")
    whole = io.BytesIO()
    # An empty header before it takes one block.
    hdus = fits.HDUList([fits.PrimaryHDU(), table])
    hdus.writeto(whole, output_verify="exception", checksum=True)
    return whole.getvalue()[BLOCK:]
