"""Checks of a master when it is made, or when it came from elsewhere: against itself, and against what is on the shelf."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from grayshelf.core.checks.findings import NOTHING_IN_IT, SHARES_IN_DOUBT, Fault, SetFinding
from grayshelf.core.checks.looks import FrameLook, look_at, medians_of_squares
from grayshelf.core.checks.of_a_picture import banding_of, capped_and_full, leak_of, shade_of, tilt_of
from grayshelf.core.checks.stars import stars_on
from grayshelf.core.digits import significant
from grayshelf.core.frames.full_scale import FULL_SCALE_ADU
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.pictures.parts import Picture

#: What is found of these keeps a master from being used without a second thought.
_CARE = (
    Fault.LEAK,
    Fault.CLIPPED,
    Fault.SATURATED,
    Fault.SHADE,
    Fault.BANDING,
    Fault.STARS,
    Fault.EMPTY,
    Fault.SCALE,
    Fault.TWO_SETTINGS,
)
#: In words of their own, since how much it is says nothing.
_IN_WORDS = {Fault.EMPTY: NOTHING_IN_IT, Fault.SCALE: SHARES_IN_DOUBT}
#: Of a master in which there is nothing to look at.
EMPTY = SetFinding(
    Fault.EMPTY,
    100.0,
    "%",
    "None of its pixels holds a number: it corrects nothing.",
    "Bring it in again from where it was made, or combine its frames anew.",
)


#: Frames behind the cap, of whatever exposure, are as bright as others of their settings within this share and these ADU
#: (common practice: what dark current adds).
SAME_LEVEL, SAME_LEVEL_ADU = 0.25, 20.0
#: A slope of fewer ADU than this on a capped master is told, and no reason to do without it.
LEAK_CARE_ADU = 10.0


@dataclass(frozen=True)
class Beside:
    """Masters of the same camera to which one is held."""

    capped: FrameLook | None = None
    """Of the same gain and offset and as short as there is: for a capped one."""
    before: FrameLook | None = None
    """Of the same filter, train and angle, taken before: for a flat."""
    longer: FrameLook | None = None
    """Of the same filter and train, of the longest exposure there is: for a flat."""
    longer_s: float = 0.0
    """And that exposure."""


def look_at_master(
    picture: Picture, kind: FrameKind, white_adu: float = math.inf, pattern: str | None = None
) -> FrameLook:
    """A master, looked at. A flat of norm 1 is nowhere full: what its frames held is told of them.

    Parameters
    ----------
    picture
        The master.
    white_adu
        The level at which its pixels are full.
    pattern
        Of the filters that neighbouring pixels lie under; it begins where the picture does.
    """
    flat = kind is FrameKind.FLAT
    look = look_at(picture, white_adu, lit=flat, pattern=pattern if flat else None)
    return look if flat else replace(look, blocks=medians_of_squares(picture, look.side))


def findings_of_master(
    picture: Picture,
    look: FrameLook,
    kind: FrameKind,
    beside: Beside,
    *,
    exposure_s: float | None = None,
    of_sky: bool = False,
    foreign: bool = False,
) -> list[SetFinding]:
    """All that is wrong with a master.

    Parameters
    ----------
    look
        Of this master.
    exposure_s
        Of its frames, in seconds.
    of_sky
        Whether stars can be on it.
    foreign
        Whether nobody looked at its frames.
    """
    found = capped_and_full(look, kind) if foreign else []
    if kind is not FrameKind.FLAT:
        # A bias is too short for light to reach it; what slope it has is the sensor's.
        return found + (leak_of(look, beside.capped) if kind is not FrameKind.BIAS else [])
    found += banding_of(look) + tilt_of(look, beside.before)
    if beside.longer is not None and exposure_s:
        found += shade_of(look, exposure_s, beside.longer, beside.longer_s)
    if of_sky:
        found += stars_on(picture, look.level, look.noise)
    return found


def scale_of(level_adu: float, others_adu: Sequence[float]) -> list[SetFinding]:
    """Whether a master whose values run from 0 to 1 holds shares of 65,535 ADU.

    Parameters
    ----------
    level_adu
        Its median, if that is so.
    others_adu
        Levels of other capped frames of its camera, gain, offset and binning, as the camera gave them.
    """
    if any(abs(level_adu - other) <= SAME_LEVEL_ADU + SAME_LEVEL * other for other in others_adu):
        return []
    taken = f"Its values run from 0 to 1. As shares of {FULL_SCALE_ADU:,.0f} ADU they are at {significant(level_adu, 3)} ADU"
    if others_adu:
        nearest = min(others_adu, key=lambda other: abs(math.log(max(other, 1.0) / level_adu)))
        told = f"{taken}, and other frames of these settings at {significant(nearest, 3)} ADU."
    else:
        told = f"{taken}, and no other frame of these settings is here to hold them to."
    advice = "Bring in some of the frames that it was made of, or combine them here."
    return [SetFinding(Fault.SCALE, FULL_SCALE_ADU, "ADU", told, advice)]


def together(of_frames: Sequence[SetFinding], of_master: Sequence[SetFinding]) -> list[SetFinding]:
    """What was found of the frames and of the master made of them; what both show is told once."""
    told = {f.fault for f in of_frames if f.fault in (Fault.BANDING, Fault.STARS)}
    return [*of_frames, *(f for f in of_master if f.fault not in told)]


def reasons_for_care(found: Sequence[SetFinding]) -> list[str]:
    """Why a master is to be used with care, in a few words each: what was left out of it is no reason."""
    return [
        _IN_WORDS.get(f.fault, f"{f.fault.value}: {significant(f.size, 2)} {f.unit}")
        for f in found
        if f.fault in _CARE and not f.leave_out and (f.fault is not Fault.LEAK or f.size >= LEAK_CARE_ADU)
    ]
