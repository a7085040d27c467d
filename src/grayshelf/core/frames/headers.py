"""From a FITS header in any of the usual dialects to `FrameFacts`.

EXPTIME, XPOSURE, DATE-OBS: FITS Standard 4.0 and its conventions. IMAGETYP, CCD-TEMP, SET-TEMP, XBINNING: the
SBFITSEXT convention. GAIN, OFFSET, ROTATOR, FOCUSPOS and the rest: practice, with no source.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import fields
from typing import NamedTuple
from zoneinfo import ZoneInfo

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.bounds import BOUNDS
from grayshelf.core.frames.calibration_told import was_calibrated
from grayshelf.core.frames.colour_pattern import pattern_in_text
from grayshelf.core.frames.facts import FILE_NAME, SAID, SAID_CARD, SCALED_CARD, FrameFacts
from grayshelf.core.frames.file_names import (
    bare_name,
    kind_in_name,
    names_a_master,
    values_in_name,
    without_gear,
)
from grayshelf.core.frames.filters import filter_name_in, normal_filter
from grayshelf.core.frames.fits_blocks import ImageHeader
from grayshelf.core.frames.folder_names import is_only_a_kind, kind_of_folders
from grayshelf.core.frames.kinds import FrameKind, is_of_the_sky, parse_kind
from grayshelf.core.frames.lit_part import lit_part
from grayshelf.core.frames.moments import moment_of
from grayshelf.core.frames.number_text import sides_in_text
from grayshelf.core.frames.reader import HeaderReader, number_of
from grayshelf.core.frames.targets import target_in_name, target_of_folders

EXPOSURE = ("EXPTIME", "EXPOSURE", "XPOSURE", "EXP_TIME", "EXPOSURETIME")
KIND = ("IMAGETYP", "FRAME", "FRAMETYP", "OBSTYPE", "IMGTYPE", "IMTYPE", "EXPTYPE")
SENSOR_TEMP = ("CCD-TEMP", "CCDTEMP", "CCD_TEMP", "SENSTEMP", "DET-TEMP", "DETTEMP", "CAMTEMP", "TEMPERAT")
SET_TEMP = ("SET-TEMP", "SETTEMP", "SET_TEMP", "CCD-TSET", "CCDTSET")
GAIN = ("GAIN", "ISO", "ISOSPEED")
#: Of how many frames a master was made.
N_COMBINED = ("NCOMBINE", "STACKCNT", "NFRAMES", "NCOMB", "NIMAGES", "NUMFRAME", "NSTACK", "NSTACKED")
#: Of these lights alone, which programs shoot in series, may be told how many the series has.
OF_A_SERIES = ("NFRAMES", "NIMAGES", "NUMFRAME")
BINNING = ("XBINNING", "BINNING", "CCDXBIN", "CCDSUM")
OFFSET = ("OFFSET", "BLKLEVEL", "BLACKLVL", "BLKLVL", "BRIGHTNS")
MECHANICAL_ANGLE = ("ROTATOR", "ROTATANG", "ROTANG", "ROTMECH")
SKY_ANGLE = ("SKYANGLE", "POSANGLE", "OBJCTROT", "CROTA2", "PA")
FOCUS = ("FOCUSPOS", "FOCPOS", "FOCUS", "FOCUSER")
CAMERA = ("INSTRUME", "CAMERA", "DETECTOR", "CAMNAME", "DETNAM")
READ_MODE = ("READOUTM", "READMODE", "READOUT", "RDMODE")


def _colour_pattern(reader: HeaderReader) -> str | None:
    text = reader.text("BAYERPAT", "COLORTYP")
    if text is None:
        return None
    told = (reader.value(names) for names in (("XBAYROFF", "BAYOFFX"), ("YBAYROFF", "BAYOFFY")))
    x, y = (0 if one is None else round(number_of(one[1], "") or 0) for one in told)
    return pattern_in_text(text, x, y)


def _combined(reader: HeaderReader, kind: _Kind) -> int | None:
    names: tuple[str, ...] = N_COMBINED
    if kind.kind is FrameKind.LIGHT:
        names = tuple(name for name in N_COMBINED if name not in OF_A_SERIES)
    return reader.whole("n_combined", names)


def _corner(reader: HeaderReader) -> tuple[int | None, int | None]:
    """Where the frame begins on the sensor, in its own pixels: both, or none (SBFITSEXT 1.0, from memory)."""
    x, y = reader.number("corner_x", ("XORGSUBF",)), reader.number("corner_y", ("YORGSUBF",))
    return (None, None) if x is None or y is None else (round(x), round(y))


def _angle(reader: HeaderReader) -> CameraAngle | None:
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
    folders: Sequence[str] = (),
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
    folders
        Names of the folders that it lies in (`folders_above`): consulted for the kind of a frame of which neither header
        nor name says it.
    """
    gear = HeaderReader(image.header, {})
    name = without_gear(file_name, gear.text(*CAMERA), gear.text("TELESCOP"))
    named = {what: v.value for what, v in values_in_name(name).items() if what not in counters}
    reader = HeaderReader(image.header, named)
    kind = _kind(reader, file_name, folders, whole=image.bits > 0)
    combined = _combined(reader, kind)
    of_several = kind.is_master or (combined or 0) > 1
    # Lights that were stacked are no lights any more: they were calibrated before, whether that is said or not.
    stacked = of_several and kind.kind is FrameKind.LIGHT
    time = moment_of(reader, zone)
    bin_x, bin_y = _binning(reader)
    corner_x, corner_y = _corner(reader)
    exposure = reader.number_or_named("exposure_s", EXPOSURE)
    sensor_temp, set_temp = _temperatures(reader)
    filter_name = filter_name_in(reader)
    code = normal_filter(filter_name)
    lit = lit_part(image)
    _by_hand(reader)
    return FrameFacts(
        width=image.width,
        height=image.height,
        bits=image.bits,
        kind=kind.kind,
        is_master=of_several and not stacked,
        of_sky=kind.of_sky,
        n_combined=combined,
        camera=reader.text(*CAMERA),
        exposure_s=exposure,
        gain=reader.number_or_named("gain", GAIN),
        offset=reader.number_or_named("offset", OFFSET),
        binning_x=bin_x,
        binning_y=bin_y,
        corner_x=corner_x,
        corner_y=corner_y,
        lit_section=lit.section if lit is not None else None,
        read_mode=reader.text(*READ_MODE),
        sensor_temp_c=sensor_temp,
        set_temp_c=set_temp,
        filter_code=code,
        target=_target(reader, bare_name(name), folders) if kind.kind is FrameKind.LIGHT else None,
        telescope=reader.text("TELESCOP"),
        focal_length_mm=reader.number("focal_length_mm", ("FOCALLEN",)),
        aperture_mm=reader.number("aperture_mm", ("APTDIA",)),
        pixel_um=reader.number("pixel_um", ("XPIXSZ", "PIXSIZE1")),
        electrons_per_adu=reader.number("electrons_per_adu", ("EGAIN",)),
        angle=_angle(reader),
        focus=reader.number("focus", FOCUS),
        bayer_pattern=_colour_pattern(reader),
        row_order=reader.capitals("ROWORDER"),
        pedestal_adu=reader.number("pedestal_adu", ("PEDESTAL",)),
        calibrated=stacked or was_calibrated(kind.kind, reader.text("CALSTAT")),
        scaled_from_s=reader.number("scaled_from_s", (SCALED_CARD,)),
        stacked=stacked,
        utc=time.utc,
        night=time.night,
        night_from=time.night_from,
        clock_ahead_h=time.ahead_h,
        air_temp_c=reader.number("air_temp_c", ("AMBTEMP", "AMB-TEMP", "FOCTEMP")),
        # SATURATE: NOAO's dictionary of FITS keywords (from memory), and what is told here of camera raw files.
        full_adu=reader.number("full_adu", ("SATURATE", "SATLEVEL")),
        origins=reader.origins,
        as_written={"filter": filter_name} if filter_name and code and filter_name != code else {},
        complaints=tuple(reader.complaints),
    )


def _target(reader: HeaderReader, name: str, folders: Sequence[str]) -> str | None:
    told = reader.text("OBJECT", "TARGET")
    named = target_in_name(name) or target_of_folders(folders) if told is None else None
    if named is not None:
        reader.origins["target"] = FILE_NAME
    return told or named


def _by_hand(reader: HeaderReader) -> None:
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


def _kind(reader: HeaderReader, file_name: str, folders: Sequence[str], *, whole: bool) -> _Kind:
    """What kind of frame it is, by its header, else by its name or its folders, else by what its target is called."""

    def settings() -> set[float]:
        told = (reader.value(names) for names in (EXPOSURE, GAIN, SET_TEMP, OFFSET))
        numbers = (number_of(one[1], "") for one in told if one is not None)
        return {abs(number) for number in numbers if number is not None}

    # A number is that of the frame.
    told = ((name, text) for name in KIND if (text := reader.text(name)) and re.search("[a-zA-Z]", text))
    for name, text in told:
        kind, is_master = parse_kind(text)
        if kind is None:
            reader.complaints.append(f"{name} is '{text}', which is no kind of frame known here")
        elif kind is not FrameKind.LIGHT:
            is_master = is_master or names_a_master(file_name, folders, settings, whole=whole)
        return _Kind(kind, is_master, is_of_the_sky(text))
    (kind, is_master), of_folder = kind_in_name(file_name), kind_of_folders(folders)
    if kind is None:
        kind, is_master = of_folder
    elif of_folder[0] not in (None, kind) and not is_only_a_kind(file_name):
        # 'Dark Horse 001' among lights: a target is called so as well.
        reader.complaints.append(f"its name says {kind}, and its folder {of_folder[0]}")
        return _Kind(None, False, of_sky=False)
    if kind is not None:
        if kind is not FrameKind.LIGHT:
            is_master = is_master or names_a_master(file_name, folders, settings, whole=whole)
        reader.origins["kind"] = FILE_NAME
        return _Kind(kind, is_master, of_sky=False)
    target = reader.text("OBJECT") or ""
    kind, is_master = parse_kind(target)
    if kind in (None, FrameKind.LIGHT):
        return _Kind(None, False, of_sky=False)
    reader.origins["kind"] = "OBJECT"
    return _Kind(kind, is_master, is_of_the_sky(target))


def kind_of(image: ImageHeader, file_name: str, folders: Sequence[str]) -> FrameKind | None:
    """What kind of frame it is (see `read_facts`), without all else that it says of itself."""
    return _kind(HeaderReader(image.header, {}), file_name, folders, whole=image.bits > 0).kind


def _binning(reader: HeaderReader) -> tuple[int | None, int | None]:
    """Pixels joined in a row and in a column; the one that is not given is as the other, where that is known."""
    x = int(reader.number_or_named("binning", BINNING) or 0)
    y = reader.whole("binning_y", ("YBINNING", "CCDYBIN"))
    told = reader.value(BINNING)
    both = sides_in_text(str(told[1])) if told is not None and y is None else None
    if both is not None and BOUNDS["binning_y"].trouble(both[1]) is None:
        y = both[1]
    return x or None, y or x or None


def _temperatures(reader: HeaderReader) -> tuple[float | None, float | None]:
    """Of the sensor, and the set point, in °C; the sensor's is the name's, or else the set point, where it is not given."""
    sensor, set_point = reader.number("sensor_temp_c", SENSOR_TEMP), reader.number("set_temp_c", SET_TEMP)
    if sensor is None and set_point is None and "sensor_temp_c" in reader.named:
        sensor = reader.named["sensor_temp_c"]
        reader.origins["sensor_temp_c"] = FILE_NAME
    if sensor is None and set_point is not None:
        sensor = set_point
        reader.origins["sensor_temp_c"] = "the set point"
    return sensor, set_point
