"""From a FITS header in any of the usual dialects to `FrameFacts`.

EXPTIME, DATE-OBS: FITS Standard 4.0 and its conventions. IMAGETYP, CCD-TEMP, SET-TEMP, XBINNING: the
SBFITSEXT convention. GAIN, OFFSET, ROTATOR, FOCUSPOS and the rest: practice, with no source.
"""

from __future__ import annotations

import math
import re
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

from astropy.io import fits

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.fits_blocks import ImageHeader, card_value
from grayshelf.core.frames.kinds import FrameKind, is_of_the_sky, parse_kind
from grayshelf.core.frames.night import night_of_local, night_of_utc

EXPOSURE = ("EXPTIME", "EXPOSURE", "EXP_TIME", "EXPOSURETIME")
SENSOR_TEMP = ("CCD-TEMP", "CCDTEMP", "SENSTEMP", "DET-TEMP", "TEMPERAT")
SET_TEMP = ("SET-TEMP", "SETTEMP", "CCD-TSET")
GAIN = ("GAIN", "ISO", "ISOSPEED")
OFFSET = ("OFFSET", "BLKLEVEL", "BLACKLVL", "BRIGHTNS")
MECHANICAL_ANGLE = ("ROTATOR", "ROTATANG", "ROTANG", "ROTMECH")
SKY_ANGLE = ("SKYANGLE", "POSANGLE", "OBJCTROT", "CROTA2", "PA")
FOCUS = ("FOCUSPOS", "FOCPOS", "FOCUS", "FOCUSER")
CAMERA = ("INSTRUME", "CAMERA", "DETECTOR")
READ_MODE = ("READOUTM", "READMODE", "READOUT", "RDMODE")
#: Names that stand for the same passband; everything else is kept as written.
FILTER_ALIASES = {
    "lum": "L",
    "luminance": "L",
    "clear": "L",
    "red": "R",
    "green": "G",
    "blue": "B",
    "h": "Ha",
    "ha": "Ha",
    "halpha": "Ha",
    "o3": "OIII",
    "oiii": "OIII",
    "s2": "SII",
    "sii": "SII",
}


#: A clock that says another year was never set: it gives no night.
EARLIEST_YEAR, LATEST_YEAR = 1980, 2150
MOST_COMBINED = 100_000
MOST_BINNING = 32


class _Reader:
    """Reads one header, noting what was there and could not be used."""

    def __init__(self, header: fits.Header) -> None:
        self.header = header
        self.complaints: list[str] = []
        self.origins: dict[str, str] = {}

    def value(self, names: tuple[str, ...]) -> tuple[str, Any] | None:
        for name in names:
            value = card_value(self.header, name)
            if value is not None:
                return name, value
        return None

    def text(self, *names: str) -> str | None:
        found = self.value(names)
        return None if found is None else str(found[1]).strip() or None

    def number(self, what: str, names: tuple[str, ...]) -> float | None:
        """First of `names` that holds a finite number; each that holds something else is complained of."""
        for name in names:
            value = card_value(self.header, name)
            if value is None:
                continue
            try:
                number = float(value)
            except (TypeError, ValueError):
                number = math.nan
            if math.isfinite(number) and not isinstance(value, bool):
                if name != names[0]:
                    self.origins[what] = name
                return number
            self.complaints.append(f"{name} is '{value}', which is not a number")
        return None


def normal_filter(name: str | None) -> str | None:
    """The code under which a filter is kept: usual long names shortened, blanks None, others as written."""
    if name is None or not name.strip() or name.strip().lower() in ("none", "no filter", "unknown", "n/a"):
        return None
    plain = re.sub(r"[^a-z0-9]", "", name.lower())
    return FILTER_ALIASES.get(plain, name.strip())


def _parse_time(text: str) -> datetime | None:
    """A FITS date-time, naive. A trailing zone letter is not in the Standard, but is common."""
    try:
        parsed = datetime.fromisoformat(text.strip().rstrip("Zz"))
    except ValueError:
        return None
    if not EARLIEST_YEAR <= parsed.year <= LATEST_YEAR:
        return None
    return parsed.astimezone(UTC).replace(tzinfo=None) if parsed.tzinfo else parsed


def _moment(reader: _Reader, zone: ZoneInfo) -> tuple[datetime | None, Any, str]:
    """When the exposure began (UTC), its night, and how the night was found."""
    utc_text = reader.text("DATE-OBS", "DATE-BEG")
    if utc_text is not None and "T" not in utc_text:
        clock = reader.text("TIME-OBS", "UT", "UTSTART")
        utc_text = f"{utc_text}T{clock}" if clock else None
    if utc_text is not None:
        naive = _parse_time(utc_text)
        if naive is None:
            reader.complaints.append(f"DATE-OBS is '{utc_text}', which is not a date and time")
        else:
            utc = naive.replace(tzinfo=UTC)
            return utc, night_of_utc(utc, zone), f"DATE-OBS (UTC), at {zone.key}"
    local_text = reader.text("DATE-LOC")
    if local_text is not None:
        local = _parse_time(local_text)
        if local is None:
            reader.complaints.append(f"DATE-LOC is '{local_text}', which is not a date and time")
        else:
            return local.replace(tzinfo=zone).astimezone(UTC), night_of_local(local), "DATE-LOC (local clock)"
    return None, None, ""


def _angle(reader: _Reader) -> CameraAngle | None:
    mechanical = reader.number("angle", MECHANICAL_ANGLE)
    if mechanical is not None:
        return CameraAngle(mechanical % 360.0)
    sky = reader.number("angle", SKY_ANGLE)
    if sky is None:
        return None
    side = (reader.text("PIERSIDE") or "").lower()
    return CameraAngle(sky % 360.0, "sky", side if side in ("east", "west") else None)


_IN_NAME = {
    "exposure_s": re.compile(r"(?<![\d.])(\d+(?:\.\d+)?)s(?:ec)?(?![a-z])", re.IGNORECASE),
    "sensor_temp_c": re.compile(r"(?<![\d.])([-−]?\d+(?:\.\d+)?)°?c(?![a-z])", re.IGNORECASE),
    "gain": re.compile(r"(?<![a-z])(?:gain|iso|g)[-_ ]?(\d+)(?!\d)", re.IGNORECASE),
    "offset": re.compile(r"(?<![a-z])(?:offset|off)[-_ ]?(\d+)(?!\d)", re.IGNORECASE),
    "binning": re.compile(r"(?<![a-z])bin[-_ ]?(\d)", re.IGNORECASE),
}


def values_in_name(name: str) -> dict[str, float]:
    """Settings written into a file's name, such as 'dark_300s_-10C_gain100_bin1.fits'."""
    found: dict[str, float] = {}
    for what, pattern in _IN_NAME.items():
        match = pattern.search(name)
        if match:
            found[what] = float(match.group(1).replace("−", "-"))
    return found


def _kind_in_name(name: str) -> tuple[FrameKind | None, bool]:
    for word in re.findall(
        r"[a-z]+", name.lower().replace("dark_flat", "darkflat").replace("flat_dark", "darkflat")
    ):
        kind, is_master = parse_kind(word)
        if kind is not None:
            return kind, is_master or "master" in name.lower()
    return None, False


def read_facts(image: ImageHeader, file_name: str, zone: ZoneInfo) -> FrameFacts:
    """Read what a frame says of itself.

    Parameters
    ----------
    image
        Header and size of the picture.
    file_name
        The file's name; consulted only for values that the header does not have.
    zone
        Time zone of the site, by which nights are counted.
    """
    reader = _Reader(image.header)
    named = values_in_name(file_name)

    def number(what: str, names: tuple[str, ...]) -> float | None:
        value = reader.number(what, names)
        if value is None and what in named:
            reader.origins[what] = "file name"
            return named[what]
        return value

    kind_text = reader.text("IMAGETYP", "FRAME", "FRAMETYP", "OBSTYPE")
    kind, is_master = parse_kind(kind_text) if kind_text else _kind_in_name(file_name)
    if kind_text and kind is None:
        reader.complaints.append(f"IMAGETYP is '{kind_text}', which is no kind of frame known here")
    elif kind is not None and not kind_text:
        reader.origins["kind"] = "file name"
    combined = reader.number("n_combined", ("NCOMBINE", "STACKCNT", "NFRAMES"))
    utc, night, night_from = _moment(reader, zone)
    bin_x = number("binning", ("XBINNING", "BINNING", "CCDXBIN"))
    bin_y = reader.number("binning_y", ("YBINNING", "CCDYBIN"))
    if bin_x is not None and not 1 <= bin_x <= MOST_BINNING:
        reader.complaints.append(f"the binning is {bin_x:g}, which cannot be")
        bin_x = bin_y = None
    if combined is not None and not 1 <= combined <= MOST_COMBINED:
        reader.complaints.append(f"the number of frames combined is {combined:g}, which cannot be")
        combined = None
    exposure = number("exposure_s", EXPOSURE)
    if exposure is not None and not 0.0 <= exposure < 100_000.0:
        reader.complaints.append(f"the exposure is {exposure:g} s, which cannot be")
        exposure = None
    sensor_temp = number("sensor_temp_c", SENSOR_TEMP)
    set_temp = reader.number("set_temp_c", SET_TEMP)
    if sensor_temp is None and set_temp is not None:
        sensor_temp = set_temp
        reader.origins["sensor_temp_c"] = "the set point"
    return FrameFacts(
        width=image.width,
        height=image.height,
        bits=image.bits,
        kind=kind,
        is_master=is_master or bool(combined and combined > 1),
        of_sky=bool(kind_text) and is_of_the_sky(kind_text or ""),
        n_combined=int(combined) if combined else None,
        camera=reader.text(*CAMERA),
        exposure_s=exposure,
        gain=number("gain", GAIN),
        offset=number("offset", OFFSET),
        binning_x=int(bin_x) if bin_x else None,
        binning_y=int(bin_y or bin_x or 1) if bin_y or bin_x else None,
        read_mode=reader.text(*READ_MODE),
        sensor_temp_c=sensor_temp,
        set_temp_c=set_temp,
        filter_code=normal_filter(reader.text("FILTER", "FILTER1", "FILTNAME")),
        target=reader.text("OBJECT", "TARGET") if kind is FrameKind.LIGHT else None,
        telescope=reader.text("TELESCOP"),
        focal_length_mm=reader.number("focal_length_mm", ("FOCALLEN",)),
        aperture_mm=reader.number("aperture_mm", ("APTDIA",)),
        pixel_um=reader.number("pixel_um", ("XPIXSZ", "PIXSIZE1")),
        electrons_per_adu=reader.number("electrons_per_adu", ("EGAIN",)),
        angle=_angle(reader),
        focus=reader.number("focus", FOCUS),
        bayer_pattern=(reader.text("BAYERPAT", "COLORTYP") or "").upper() or None,
        row_order=(reader.text("ROWORDER") or "").upper() or None,
        pedestal_adu=reader.number("pedestal_adu", ("PEDESTAL",)),
        calibrated=bool(reader.text("CALSTAT")),
        utc=utc,
        night=night,
        night_from=night_from,
        air_temp_c=reader.number("air_temp_c", ("AMBTEMP", "AMB-TEMP", "FOCTEMP")),
        origins=reader.origins,
        complaints=tuple(reader.complaints),
    )
