"""Lights that wait for something that cannot be shot now, and why."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from grayshelf.core.digits import seconds
from grayshelf.core.flats.panel.diffusers import listed
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.sets import nominal_exposure
from grayshelf.core.matching.model import CommonSettings, RigSays
from grayshelf.library.gaps import Gap
from grayshelf.library.lights import LightSet


@dataclass(frozen=True)
class OutOfReach:
    """Lights that wait for something that cannot be shot now, and why."""

    kind: FrameKind
    title: str
    lights: int
    why: str
    told_on: LightSet | None = None
    """Lights on whose slip a person can say what nobody knows, where that is why."""


def not_settable(want: CommonSettings, says: RigSays, quantities: Sequence[str]) -> list[str]:
    """Which settings of lights nobody knows, so that frames for them cannot be shot; fixed ones need not be set."""
    values = {
        "gain": want.gain,
        "offset": want.offset,
        "exposure": want.exposure_s,
        "temperature": want.sensor_temp_c,
    }
    return [q for q in quantities if not says.can_set(q, values[q])]


def not_known(quantities: Sequence[str]) -> str:
    """'gain is not known', 'gain and offset are not known'."""
    return f"{listed(quantities)} {'is' if len(quantities) == 1 else 'are'} not known"


def not_now(gap: Gap, why: str, *, unknown: bool = False) -> OutOfReach:
    """A gap that cannot be filled now, in words; `unknown`: since something of its lights is not known."""
    want = gap.want
    parts = [gap.kind.value.capitalize()]
    if gap.kind is FrameKind.FLAT:
        parts.append(want.filter_code or "")
    elif want.exposure_s is not None:
        parts.append(seconds(nominal_exposure(want.exposure_s)))
    if gap.kind is FrameKind.DARK and want.sensor_temp_c is not None:
        parts.append(f"at {want.sensor_temp_c:.0f} °C".replace("-", "−"))
    return OutOfReach(
        gap.kind, " ".join(p for p in parts if p), gap.lights, why, gap.sets[-1] if unknown else None
    )


def binning_of(want: CommonSettings) -> int:
    """The binning of lights; 1 where no header tells."""
    return want.binning[0] if want.binning else 1
