"""From a FITS header in any of the usual dialects to `FrameFacts`.

EXPTIME, DATE-OBS: FITS Standard 4.0 and its conventions. IMAGETYP, CCD-TEMP, SET-TEMP, XBINNING: the
SBFITSEXT convention. GAIN, OFFSET, ROTATOR, FOCUSPOS and the rest: practice, with no source.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, fields
from datetime import UTC, date, datetime, timedelta
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.bounds import BOUNDS, MOST_TEXT, ZERO_IS_UNKNOWN
from grayshelf.core.frames.cards import Cards, CardText
from grayshelf.core.frames.clock_text import ClockReading, clock_in_text, moment_of_mjd
from grayshelf.core.frames.facts import FILE_NAME, SAID, SAID_CARD, FrameFacts
from grayshelf.core.frames.file_names import kind_in_name, kind_of_folder, values_in_name
from grayshelf.core.frames.fits_blocks import ImageHeader, card_value
from grayshelf.core.frames.kinds import FrameKind, is_of_the_sky, parse_kind
from grayshelf.core.frames.night import HEADER_PLACE, LOCAL_CLOCK, night_of_local, site_night
from grayshelf.core.frames.number_text import number_in_text, sides_in_text
from grayshelf.core.frames.place import degrees_of, sun_offset

EXPOSURE = ("EXPTIME", "EXPOSURE", "EXP_TIME", "EXPOSURETIME")
SENSOR_TEMP = ("CCD-TEMP", "CCDTEMP", "SENSTEMP", "DET-TEMP", "TEMPERAT")
SET_TEMP = ("SET-TEMP", "SETTEMP", "CCD-TSET")
GAIN = ("GAIN", "ISO", "ISOSPEED")
BINNING = ("XBINNING", "BINNING", "CCDXBIN")
OFFSET = ("OFFSET", "BLKLEVEL", "BLACKLVL", "BRIGHTNS")
MECHANICAL_ANGLE = ("ROTATOR", "ROTATANG", "ROTANG", "ROTMECH")
SKY_ANGLE = ("SKYANGLE", "POSANGLE", "OBJCTROT", "CROTA2", "PA")
FOCUS = ("FOCUSPOS", "FOCPOS", "FOCUS", "FOCUSER")
CAMERA = ("INSTRUME", "CAMERA", "DETECTOR")
#: Wheels that stand one behind the other, and what the one says that the light goes through as it came.
WHEELS = ("FILTER1", "FILTER2", "FILTER3")
EMPTY_PLACE = ("air", "blank", "clear", "empty", "n/a", "no filter", "none", "open", "unknown")
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
#: Local clocks on earth lie between these hours of UTC, give or take a clock that is a little off.
AHEAD_OF_UTC_H = (-12.5, 14.5)


def _number(value: Any, what: str) -> float | None:
    """A finite number, also where it stands as a text; `what` is a name of `BOUNDS`, or empty of what has no unit."""
    if isinstance(value, bool):
        return None
    try:
        number = float(value)
    except (TypeError, ValueError, OverflowError):
        return number_in_text(value, what) if what and isinstance(value, str) else None
    return number if math.isfinite(number) else None


class _Reader:
    """Reads one header, noting what was there and could not be used."""

    def __init__(self, header: Cards, named: Mapping[str, float]) -> None:
        """`named` is what the file's name says."""
        self.header, self.named = header, named
        self._may_have = header.may_have if isinstance(header, CardText) else None
        self.complaints: list[str] = []
        self.origins: dict[str, str] = {}

    def _there(self, names: tuple[str, ...]) -> Iterable[str]:
        return names if self._may_have is None else filter(self._may_have, names)

    def value(self, names: tuple[str, ...]) -> tuple[str, Any] | None:
        for name in self._there(names):
            value = card_value(self.header, name)
            if value is not None:
                return name, value
        return None

    def text(self, *names: str) -> str | None:
        found = self.value(names)
        text = "" if found is None else " ".join(str(found[1]).split())
        if found is not None and len(text) > MOST_TEXT:
            self.complaints.append(f"{found[0]} has {len(text):,} characters, which no name has")
            return None
        return text or None

    def number(self, what: str, names: tuple[str, ...]) -> float | None:
        """First of `names` that holds a number that can be; each that holds something else is complained of."""
        for name in self._there(names):
            value = card_value(self.header, name)
            if value is None:
                continue
            number = _number(value, what)
            if number is None:
                shown = str(value)
                self.complaints.append(f"{name} is '{shown[:40]}', which is not a number")
                continue
            if number == 0.0 and what in ZERO_IS_UNKNOWN:
                continue
            trouble = BOUNDS[what].trouble(number)
            if trouble is not None:
                self.complaints.append(trouble)
                continue
            if name != names[0]:
                self.origins[what] = name
            return number
        return None

    def number_or_named(self, what: str, names: tuple[str, ...]) -> float | None:
        """The same; what no keyword gives, as the file's name has it."""
        value = self.number(what, names)
        if value is None and what in self.named and BOUNDS[what].trouble(self.named[what]) is None:
            self.origins[what] = FILE_NAME
            return self.named[what]
        return value

    def whole(self, what: str, names: tuple[str, ...]) -> int | None:
        """A whole number that is not 0."""
        return int(self.number(what, names) or 0) or None

    def capitals(self, *names: str) -> str | None:
        """A text in capitals."""
        return (self.text(*names) or "").upper() or None


def normal_filter(name: str | None) -> str | None:
    """The code under which a filter is kept: usual long names shortened, blanks None, others as written."""
    if name is None or not name.strip() or name.strip().lower() in ("none", "no filter", "unknown", "n/a"):
        return None
    plain = re.sub(r"[^a-z0-9]", "", name.lower())
    return FILTER_ALIASES.get(plain, name.strip())


def _clock_time(reader: _Reader, name: str, text: str | None) -> ClockReading | None:
    """A date and time from a clock that was set; else a complaint."""
    if text is None:
        return None
    told = clock_in_text(text)
    if told is None:
        reader.complaints.append(f"{name} is '{text}', which is not a date and time")
    return told if told is not None and _is_set(reader, name, told.clock) else None


def _is_set(reader: _Reader, name: str, clock: datetime) -> bool:
    """Whether a clock was set; else a complaint."""
    if EARLIEST_YEAR <= clock.year <= LATEST_YEAR:
        return True
    reader.complaints.append(f"{name} is in the year {clock.year}: the clock was not set")
    return False


@dataclass(frozen=True)
class FrameTime:
    """When an exposure began, its night, and how the night was found."""

    utc: datetime | None = None
    night: date | None = None
    night_from: str = ""
    ahead_h: float | None = None
    """How far the header's own clock or place is ahead of UTC."""


def _moment(reader: _Reader, zone: ZoneInfo) -> FrameTime:
    """The night by the local clock where a header has it, else by UTC and the place: the header's, else the site's."""
    naive = _utc_told(reader)
    told = _clock_time(reader, "DATE-LOC", reader.text("DATE-LOC", "DATE-LCL", "LOCALTIM"))
    local = None if told is None else told.clock
    if naive is None and told is not None and told.ahead is not None:
        naive = told.utc
    longitude = _longitude(reader)
    utc = None if naive is None else naive.replace(tzinfo=UTC)
    if local is not None:
        ahead = None if naive is None else (local - naive).total_seconds() / 3600.0
        if ahead is None or AHEAD_OF_UTC_H[0] <= ahead <= AHEAD_OF_UTC_H[1]:
            if utc is None:
                place = zone.utcoffset(local) if longitude is None else sun_offset(longitude)
                utc = (local - (place or timedelta())).replace(tzinfo=UTC)
            ahead_h = (local - utc.replace(tzinfo=None)).total_seconds() / 3600.0
            return FrameTime(utc, night_of_local(local), f"DATE-LOC ({LOCAL_CLOCK})", round(ahead_h, 4))
        reader.complaints.append(
            f"DATE-LOC is {ahead:+.0f} h from DATE-OBS, which no place on earth is: it was passed over"
        )
    if utc is None:
        return FrameTime()
    if longitude is not None:
        night = night_of_local((utc + sun_offset(longitude)).replace(tzinfo=None))
        degrees = f"{longitude:.1f}°".replace("-", "−")
        ahead_h = round(sun_offset(longitude).total_seconds() / 3600.0, 4)
        return FrameTime(utc, night, f"DATE-OBS (UTC) and {HEADER_PLACE}, longitude {degrees}", ahead_h)
    return FrameTime(utc, *site_night(utc, zone))


def _utc_told(reader: _Reader) -> datetime | None:
    """The moment in UTC, naive: by DATE-OBS, with its time beside it where it is a day alone, else by MJD-OBS."""
    text = reader.text("DATE-OBS", "DATE-BEG")
    if text is None:
        days = reader.value(("MJD-OBS", "MJD-BEG"))
        number = None if days is None else _number(days[1], "")
        moment = None if number is None else moment_of_mjd(number)
        return moment if moment is not None and _is_set(reader, "MJD-OBS", moment) else None
    if "T" not in text and ":" not in text and any(c.isdigit() for c in text):
        clock = reader.text("TIME-OBS", "UT", "UTC", "UTSTART", "UT-START", "UTC-OBS")
        if clock is None:
            reader.complaints.append(f"DATE-OBS is '{text}', a day without a time")
            return None
        text = f"{text}T{clock}"
    told = _clock_time(reader, "DATE-OBS", text)
    return None if told is None else told.utc


def _longitude(reader: _Reader) -> float | None:
    """Longitude of the place in the header, east positive; a place of exactly 0° N 0° E was never set."""
    found = reader.value(("SITELONG", "LONG-OBS", "OBSGEO-L", "OBSLONG", "LONGITUD"))
    if found is None:
        return None
    longitude = degrees_of(found[1])
    if longitude is None or not -180.0 <= longitude <= 360.0:
        reader.complaints.append(f"{found[0]} is '{found[1]}', which is not a longitude")
        return None
    beside = reader.value(("SITELAT", "LAT-OBS", "OBSGEO-B", "OBSLAT", "LATITUDE"))
    latitude = None if beside is None else degrees_of(beside[1])
    if longitude == 0.0 and not latitude:
        return None
    return longitude - 360.0 if longitude > 180.0 else longitude


def _filter_name(reader: _Reader) -> str | None:
    """The filter's name; of several wheels in a row that of the one that is not empty, of several filters all."""
    told = reader.text("FILTER")
    if told is not None:
        return told
    wheels = [name for keyword in WHEELS if (name := reader.text(keyword)) is not None]
    through = [name for name in wheels if name.lower() not in EMPTY_PLACE]
    return "+".join(through) or next(iter(wheels), None) or reader.text("FILTNAME")


def _angle(reader: _Reader) -> CameraAngle | None:
    mechanical = reader.number("angle", MECHANICAL_ANGLE)
    if mechanical is not None:
        return CameraAngle(mechanical % 360.0)
    sky = reader.number("angle", SKY_ANGLE)
    if sky is None:
        return None
    side = re.sub(r"[^a-z]|pier|side", "", (reader.text("PIERSIDE", "SIDEPIER") or "").lower())
    return CameraAngle(sky % 360.0, "sky", {"e": "east", "w": "west"}.get(side[:1]))


def read_facts(
    image: ImageHeader,
    file_name: str,
    zone: ZoneInfo,
    counters: frozenset[str] = frozenset(),
    folder_name: str = "",
) -> FrameFacts:
    """Read what a frame says of itself.

    Parameters
    ----------
    image
        Header and size of the picture.
    file_name
        The file's name; consulted only for values that the header does not have.
    zone
        Time zone of the site, by which nights are counted where the header names no place.
    counters
        Numbers in the name that only count frames, from `counters_among` of its folder.
    folder_name
        Of the folder that it lies in: consulted for the kind of a frame of which neither header nor name says it.
    """
    named = {what: v.value for what, v in values_in_name(file_name).items() if what not in counters}
    reader = _Reader(image.header, named)
    kind = _kind(reader, file_name, folder_name)
    combined = reader.whole("n_combined", ("NCOMBINE", "STACKCNT", "NFRAMES"))
    time = _moment(reader, zone)
    bin_x, bin_y = _binning(reader)
    exposure = reader.number_or_named("exposure_s", EXPOSURE)
    sensor_temp, set_temp = _temperatures(reader)
    filter_name = _filter_name(reader)
    code = normal_filter(filter_name)
    _by_hand(reader)
    return FrameFacts(
        width=image.width,
        height=image.height,
        bits=image.bits,
        kind=kind.kind,
        is_master=kind.is_master or (combined or 0) > 1,
        of_sky=kind.of_sky,
        n_combined=combined,
        camera=reader.text(*CAMERA),
        exposure_s=exposure,
        gain=reader.number_or_named("gain", GAIN),
        offset=reader.number_or_named("offset", OFFSET),
        binning_x=bin_x,
        binning_y=bin_y,
        read_mode=reader.text(*READ_MODE),
        sensor_temp_c=sensor_temp,
        set_temp_c=set_temp,
        filter_code=code,
        target=reader.text("OBJECT", "TARGET") if kind.kind is FrameKind.LIGHT else None,
        telescope=reader.text("TELESCOP"),
        focal_length_mm=reader.number("focal_length_mm", ("FOCALLEN",)),
        aperture_mm=reader.number("aperture_mm", ("APTDIA",)),
        pixel_um=reader.number("pixel_um", ("XPIXSZ", "PIXSIZE1")),
        electrons_per_adu=reader.number("electrons_per_adu", ("EGAIN",)),
        angle=_angle(reader),
        focus=reader.number("focus", FOCUS),
        bayer_pattern=reader.capitals("BAYERPAT", "COLORTYP"),
        row_order=reader.capitals("ROWORDER"),
        pedestal_adu=reader.number("pedestal_adu", ("PEDESTAL",)),
        calibrated=bool(reader.text("CALSTAT")),
        utc=time.utc,
        night=time.night,
        night_from=time.night_from,
        clock_ahead_h=time.ahead_h,
        air_temp_c=reader.number("air_temp_c", ("AMBTEMP", "AMB-TEMP", "FOCTEMP")),
        origins=reader.origins,
        as_written={"filter": filter_name} if filter_name and code and filter_name != code else {},
        complaints=tuple(reader.complaints),
    )


def _by_hand(reader: _Reader) -> None:
    """Values of a master that a person said of its frames before it was built."""
    told = reader.text(SAID_CARD)
    if told is None:
        return
    known = {f.name for f in fields(FrameFacts)} | {"binning"}
    reader.origins |= {name: SAID for name in told.split(",") if name in known}


class _Kind(NamedTuple):
    kind: FrameKind | None
    is_master: bool
    of_sky: bool


def _kind(reader: _Reader, file_name: str, folder_name: str) -> _Kind:
    """What kind of frame it is, by its header, else by its name."""
    text = reader.text("IMAGETYP", "FRAME", "FRAMETYP", "OBSTYPE")
    if text is None:
        kind, is_master = kind_in_name(file_name)
        if kind is None:
            kind, is_master = kind_of_folder(folder_name)
        if kind is not None:
            reader.origins["kind"] = FILE_NAME
        return _Kind(kind, is_master, of_sky=False)
    kind, is_master = parse_kind(text)
    if kind is None:
        reader.complaints.append(f"IMAGETYP is '{text}', which is no kind of frame known here")
    return _Kind(kind, is_master, is_of_the_sky(text))


def _binning(reader: _Reader) -> tuple[int | None, int | None]:
    """Pixels joined in a row and in a column; the one that is not given is as the other, where that is known."""
    x = int(reader.number_or_named("binning", BINNING) or 0)
    y = reader.whole("binning_y", ("YBINNING", "CCDYBIN"))
    told = reader.value(BINNING)
    both = sides_in_text(str(told[1])) if told is not None and y is None else None
    if both is not None and BOUNDS["binning_y"].trouble(both[1]) is None:
        y = both[1]
    return x or None, y or x or None


def _temperatures(reader: _Reader) -> tuple[float | None, float | None]:
    """Of the sensor, and the set point, in °C; the sensor's is the name's, or else the set point, where it is not given."""
    sensor, set_point = reader.number("sensor_temp_c", SENSOR_TEMP), reader.number("set_temp_c", SET_TEMP)
    if sensor is None and set_point is None and "sensor_temp_c" in reader.named:
        sensor = reader.named["sensor_temp_c"]
        reader.origins["sensor_temp_c"] = FILE_NAME
    if sensor is None and set_point is not None:
        sensor = set_point
        reader.origins["sensor_temp_c"] = "the set point"
    return sensor, set_point
