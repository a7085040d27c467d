"""What series that could fill the shelf are known by on the page: kind, exposure, set point and how the camera is set."""

from __future__ import annotations

import re
from dataclasses import dataclass

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.ladder import LONGEST_S

#: No camera's gain or offset goes further.
MOST_SET = 1e6


@dataclass(frozen=True)
class SetUp:
    """A way the camera is set: darks of another one serve other lights."""

    gain: float
    offset: float
    binning: int
    read_mode: str | None = None


@dataclass(frozen=True)
class Step:
    """One rung of a ladder that a person laid: an exposure at a set point."""

    set_up: SetUp
    exposure_s: float
    temp_c: float | None


def key_of(kind: FrameKind, set_up: SetUp, exposure_s: float, temp_c: float | None) -> str:
    """What a series is known by on the page: 'dark:300s:-10C:g100:o30:b1'."""
    degrees = "" if temp_c is None else f":{round(temp_c, 1):g}C"
    exposure = "" if kind is FrameKind.BIAS else f":{exposure_s:g}s"
    mode = f":{set_up.read_mode}" if set_up.read_mode else ""
    return f"{kind.value}{exposure}{degrees}:g{set_up.gain:g}:o{set_up.offset:g}:b{set_up.binning}{mode}"


_KEY = re.compile(
    r"dark:(?P<exposure>[0-9.e+-]+)s(?::(?P<temp>-?[0-9.]+)C)?:g(?P<gain>[0-9.e+-]+):o(?P<offset>[0-9.e+-]+):b(?P<binning>\d+)"
    r"(?::(?P<mode>[^,]*))?"
)


def step_of(key: str) -> Step | None:
    """The rung of a ladder that a key of `key_of` names; None where it is none of a dark."""
    found = _KEY.fullmatch(key)
    if found is None:
        return None
    try:
        set_up = SetUp(
            float(found["gain"]), float(found["offset"]), int(found["binning"]), found["mode"] or None
        )
        temp = None if found["temp"] is None else float(found["temp"])
        rung = Step(set_up, float(found["exposure"]), temp)
    except ValueError:
        return None
    set_so = abs(set_up.gain) <= MOST_SET and abs(set_up.offset) <= MOST_SET
    possible = set_so and 0.0 < rung.exposure_s <= LONGEST_S and (temp is None or -80.0 <= temp <= 50.0)
    return rung if possible and 1 <= set_up.binning <= 16 else None
