"""What a process of its own does with camera raw files and TIFF: whatever a damaged or hostile file does to the
libraries that read it, the application goes on.

Nothing here may import more than those libraries: each start of the process loads it.
"""

from __future__ import annotations

import os
import threading
import time
from dataclasses import dataclass, field
from datetime import datetime
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

TIFF_SUFFIXES = (".tif", ".tiff")
#: As much as any FITS frame may have (`core.frames.fits_blocks`), told here so that nothing is loaded for it.
MOST_PIXELS, FEWEST_SIDE = 400_000_000, 8


class NoFrame(ValueError):
    """The file is none that can be used; its words say why, in a sentence."""


@dataclass(frozen=True)
class ForeignFrame:
    """What such a file says of itself."""

    width: int
    height: int
    cards: dict[str, Any] = field(default_factory=dict)
    """By the FITS keywords in common use."""


def end_with(parent: int) -> None:
    """End this process as soon as the one that began it is gone: killed, it tells nobody."""

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(1.0)
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()


def look(path: str) -> ForeignFrame:
    """What a file says of itself; its pixels are not decoded."""
    return _look_at_tiff(path) if path.lower().endswith(TIFF_SUFFIXES) else _look_at_raw(path)


def pixels(path: str) -> NDArray[np.uint16]:
    """The values of its pixels as they were read out, shape (height, width)."""
    return _tiff_pixels(path) if path.lower().endswith(TIFF_SUFFIXES) else _raw_pixels(path)


def _checked(width: int, height: int) -> None:
    if width * height > MOST_PIXELS or min(width, height) < FEWEST_SIDE:
        raise NoFrame(f"It says that it has {width:,} × {height:,} pixels, which no camera's frame has.")


# -- camera raw files ------------------------------------------------------------------------------------------


def _opened(path: str) -> Any:
    import rawpy

    raw = rawpy.RawPy()
    try:
        raw.open_file(path)
    except rawpy.LibRawFileUnsupportedError as error:
        raise NoFrame("It is no camera raw file that can be read here, whatever its name says.") from error
    except rawpy.LibRawError as error:
        raise NoFrame(f"It is damaged ({error}).") from error
    _checked(raw.sizes.raw_width, raw.sizes.raw_height)
    return raw


def _unpacked(raw: Any) -> None:
    import rawpy

    try:
        raw.unpack()
    except rawpy.LibRawError as error:
        raise NoFrame(f"It is cut off or damaged ({error}).") from error
    if raw.raw_type != rawpy.RawType.Flat or raw.raw_image_visible is None:
        raise NoFrame("It has several values for each pixel: a developed picture is no frame.")


def _look_at_raw(path: str) -> ForeignFrame:
    with _opened(path) as raw:
        # What the colours are is known once it is unpacked.
        _unpacked(raw)
        height, width = raw.raw_image_visible.shape
        _checked(width, height)
        # Raw values are those of single pixels.
        cards: dict[str, Any] = {"ROWORDER": "TOP-DOWN", "XBINNING": 1}
        pattern = _colour_phase(raw)
        if pattern:
            cards["BAYERPAT"] = pattern
        if 255 <= int(raw.white_level or 0) <= 65_535:
            cards["SATURATE"] = int(raw.white_level)
        told = _exif(path) or _exif_of_preview(raw)
        other = raw.other
        cards |= _cards(told)
        if "EXPTIME" not in cards and other.shutter_speed > 0:
            cards["EXPTIME"] = float(other.shutter_speed)
        if "ISO" not in cards and other.iso_speed > 0:
            cards["ISO"] = float(other.iso_speed)
        if "DATE-LOC" not in cards and other.timestamp:
            # LibRaw took the camera's local time for this machine's; that is taken back.
            local = other.timestamp.astimezone().replace(tzinfo=None)
            if local.year > 1980:
                cards["DATE-LOC"] = local.isoformat()
    return ForeignFrame(int(width), int(height), cards)


def _colour_phase(raw: Any) -> str:
    """The colours of the pixels at the upper left of the visible part, as 'RGGB', or of 36 where they repeat after six; '' for a
    mono sensor.

    The picture is not turned, so the phase is the sensor's whatever way the camera was held.
    """
    colours = raw.raw_colors_visible
    if raw.num_colors == 1 or colours is None:
        return ""
    some, names = colours[:24, :24], raw.color_desc.decode("ascii", "replace")
    for side in (2, 6):
        pattern = colours[:side, :side]
        if np.array_equal(some, np.tile(pattern, (12, 12))[: some.shape[0], : some.shape[1]]):
            return "".join(names[int(c)] for c in pattern.ravel()).upper()
    raise NoFrame("Its colours repeat neither after two pixels nor after six, as those of cameras do.")


def _raw_pixels(path: str) -> NDArray[np.uint16]:
    with _opened(path) as raw:
        _unpacked(raw)
        return np.ascontiguousarray(raw.raw_image_visible).astype(np.uint16, copy=True)


def _exif(path: str) -> dict[str, Any]:
    """Tags of a file that is built as a TIFF is, as most raw files are; none where it is not."""
    import tifffile

    try:
        with tifffile.TiffFile(path) as tiff:
            return _tags_of(tiff.pages.first)
    except Exception:
        # Whatever is wrong with it as a TIFF says nothing of it as a raw file.
        return {}


def _tags_of(page: Any) -> dict[str, Any]:
    told = {
        tag.name: tag.value for tag in page.tags.values() if not isinstance(tag.value, (bytes, np.ndarray))
    }
    exif = told.pop("ExifTag", None)
    return told | exif if isinstance(exif, dict) else told


def _exif_of_preview(raw: Any) -> dict[str, Any]:
    """The same from the small JPEG that a camera puts into its raw files."""
    import io

    import rawpy
    from PIL import ExifTags, Image

    try:
        thumb = raw.extract_thumb()
        if thumb.format != rawpy.ThumbFormat.JPEG:
            return {}
        exif = Image.open(io.BytesIO(thumb.data)).getexif()
    except Exception:
        # Without it the exposure and the ISO are known still.
        return {}
    told = {ExifTags.TAGS.get(k, str(k)): v for k, v in exif.items()}
    return told | {ExifTags.TAGS.get(k, str(k)): v for k, v in exif.get_ifd(ExifTags.IFD.Exif).items()}


def _cards(told: dict[str, Any]) -> dict[str, Any]:
    """EXIF (CIPA DC-008) by the FITS keywords in common use."""
    cards: dict[str, Any] = {}
    make, model = (str(told.get(name) or "").strip().strip("\x00") for name in ("Make", "Model"))
    camera = model if not make or model.lower().startswith(make.split()[0].lower()) else f"{make} {model}"
    if camera.strip():
        cards["INSTRUME"] = camera.strip()
    for card, names in {
        "EXPTIME": ("ExposureTime",),
        "ISO": ("PhotographicSensitivity", "ISOSpeedRatings", "ISOSpeed"),
        "FOCALLEN": ("FocalLength",),
        "AMBTEMP": ("AmbientTemperature",),
    }.items():
        value = next((v for n in names if (v := _number(told.get(n))) is not None), None)
        if value is not None:
            cards[card] = value
    stop = _number(told.get("FNumber"))
    if stop and stop > 0 and cards.get("FOCALLEN", 0.0) > 0:
        # Not coarser: the stop is told by it again.
        cards["APTDIA"] = round(cards["FOCALLEN"] / stop, 2)
    local = _moment(told.get("DateTimeOriginal") or told.get("DateTimeDigitized") or told.get("DateTime"))
    if local is not None:
        cards["DATE-LOC"] = local
        utc = _utc(local, told.get("OffsetTimeOriginal") or told.get("OffsetTime"))
        if utc is not None:
            cards["DATE-OBS"] = utc
    return cards


def _number(value: Any) -> float | None:
    """A number, or a fraction as EXIF keeps them."""
    if isinstance(value, (tuple, list)):
        if len(value) == 2 and all(isinstance(v, (int, float)) for v in value):
            return float(value[0]) / float(value[1]) if value[1] else None
        return _number(value[0]) if value else None
    try:
        return float(value)
    except (TypeError, ValueError, ZeroDivisionError):
        return None


def _moment(value: Any) -> str | None:
    """'2026:10:18 22:04:11' as FITS writes it."""
    try:
        return datetime.strptime(str(value).strip().strip("\x00"), "%Y:%m:%d %H:%M:%S").isoformat()
    except ValueError:
        return None


def _utc(local: str, offset: Any) -> str | None:
    try:
        aware = datetime.fromisoformat(f"{local}{str(offset).strip()}")
    except ValueError:
        return None
    ahead = aware.utcoffset()
    return None if ahead is None else (aware.replace(tzinfo=None) - ahead).isoformat()


# -- TIFF ------------------------------------------------------------------------------------------------------


def _tiff_page(tiff: Any) -> Any:
    page = tiff.pages.first
    shape = page.shape
    if len(shape) != 2 or page.samplesperpixel != 1:
        raise NoFrame("It has several values for each pixel: a developed picture is no frame.")
    if np.dtype(page.dtype) not in (np.dtype("u1"), np.dtype("u2")):
        raise NoFrame("Its pixels are no whole numbers of 16 bits: it is no frame as a camera gives it.")
    _checked(shape[1], shape[0])
    # What is smaller, or says that it is made small, is a picture of the first.
    second = next(islice(tiff.pages, 1, 2), None)
    if second is not None and second.shape == shape and not second.is_reduced:
        raise NoFrame("It holds several pictures. Save each as a file of its own.")
    return page


def _look_at_tiff(path: str) -> ForeignFrame:
    import tifffile

    try:
        with tifffile.TiffFile(path) as tiff:
            page = _tiff_page(tiff)
            offsets, counts = page.dataoffsets, page.databytecounts
            end = max((o + c for o, c in zip(offsets, counts, strict=False)), default=0)
            if end > Path(path).stat().st_size:
                raise NoFrame("It is cut off inside its pixels.")
            return ForeignFrame(page.shape[1], page.shape[0], _cards(_tags_of(page)))
    except tifffile.TiffFileError as error:
        raise NoFrame("It is no TIFF file, whatever its name says.") from error


def _tiff_pixels(path: str) -> NDArray[np.uint16]:
    import tifffile

    with tifffile.TiffFile(path) as tiff:
        page = _tiff_page(tiff)
        try:
            values = page.asarray()
        except (ValueError, ImportError):
            values = _unpacked_by_pillow(path, page.shape)
    return np.ascontiguousarray(values).astype(np.uint16)


def _unpacked_by_pillow(path: str, shape: tuple[int, int]) -> NDArray[Any]:
    """Pixels that are packed by LZW, as many programs do, or by ZSTD: tifffile leaves both to another package."""
    from PIL import Image

    # What an image may measure was looked at before.
    Image.MAX_IMAGE_PIXELS = None
    try:
        with Image.open(path) as image:
            values = np.asarray(image)
    except (OSError, ValueError, SyntaxError) as error:
        raise NoFrame(f"It is packed in a way that is not read here ({error}). Save it unpacked.") from error
    if values.shape != shape or values.dtype.kind != "u":
        raise NoFrame("It is packed in a way that is not read here. Save it unpacked.")
    return values
