"""By which rules the frames of a folder were read: where they are others now, what could not be understood is read anew."""

from __future__ import annotations

import hashlib
from pathlib import Path

from sqlalchemy import ColumnElement, and_, case, func, not_, or_

from grayshelf.core.frames import (
    bounds,
    calibration_told,
    cards,
    clock_text,
    colour_pattern,
    file_names,
    filters,
    fits_blocks,
    folder_names,
    headers,
    kind_words,
    kinds,
    lit_part,
    moments,
    number_text,
    place,
    reader,
    targets,
)
from grayshelf.core.frames.facts import FILE_NAME
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library.facts_json import KEPT_BOUNDS
from grayshelf.library.foreign_formats import RAW_SUFFIXES
from grayshelf.library.models import Frame

_READ_BY = (
    bounds,
    calibration_told,
    cards,
    clock_text,
    colour_pattern,
    file_names,
    filters,
    fits_blocks,
    folder_names,
    headers,
    kind_words,
    kinds,
    lit_part,
    moments,
    number_text,
    place,
    reader,
    targets,
)


#: At the start: what is installed while the program runs is in force once it is started again.
_AT_START = hashlib.sha256(b"".join(Path(m.__file__ or "").read_bytes() for m in _READ_BY)).hexdigest()[:16]


def rules_in_force() -> str:
    """The same as long as headers are read in the same way.

    The code that reads them tells it: nobody has to remember to.
    """
    return _AT_START


def not_understood() -> ColumnElement[bool]:
    """Frames of which something could not be used or is not known, or that have a value which cannot be, and those that may
    be masters: other rules may make more of them."""
    cannot_be = [
        not_(Frame.facts[name].as_float().between(bound.lowest, bound.highest))
        for name, bound in KEPT_BOUNDS.items()
        if name != "angle_deg"
    ]
    odd_pattern = Frame.facts["bayer_pattern"].as_string().not_in(colour_pattern.PATTERNS)
    complained = Frame.facts["complaints"].as_string().is_not(None)
    # Versions before did not ask raw files at what level they are full.
    raw = or_(*(func.lower(Frame.path).like(f"%{suffix}") for suffix in RAW_SUFFIXES))
    no_full_level = raw & Frame.facts["full_adu"].as_float().is_(None)
    # Nor a lens for its stop.
    no_stop = (
        raw
        & Frame.facts["focal_length_mm"].as_float().is_not(None)
        & Frame.facts["aperture_mm"].as_float().is_(None)
    )
    no_target = (Frame.kind == FrameKind.LIGHT.value) & Frame.facts["target"].as_string().is_(None)
    unknown = or_(Frame.utc.is_(None), Frame.kind.is_(None), Frame.camera.is_(None), no_target)
    # A name that may tell how warm the sensor was, or seemed to.
    warmth = Frame.facts["sensor_temp_c"].as_float().is_(None) | (
        Frame.facts[("origins", "sensor_temp_c")].as_string() == FILE_NAME
    )
    named_warmth = Frame.path.bool_op("GLOB")("*[0-9][cC]*") & warmth
    # No camera gives fractions; and a name may say it.
    named = [func.lower(Frame.path).like(f"%{word}%") for word in ("master", "mdark", "mflat", "mbias")]
    perhaps = or_(Frame.facts["bits"].as_integer() < 0, *named)
    a_master = and_(perhaps, Frame.facts["is_master"].as_boolean().is_not(True))
    # As versions before had lights that were stacked, and any others to which anything was done.
    a_light = Frame.kind == FrameKind.LIGHT.value
    as_before = or_(
        and_(a_light, Frame.facts["is_master"].as_boolean()),
        and_(~a_light, Frame.facts["calibrated"].as_boolean()),
    )
    # Whether it is JSON is asked once for a frame, not once for each bound.
    return case(
        (
            func.json_valid(Frame.facts),
            or_(
                *cannot_be,
                odd_pattern,
                complained,
                unknown,
                named_warmth,
                a_master,
                as_before,
                no_full_level,
                no_stop,
            ),
        ),
        else_=True,
    )
