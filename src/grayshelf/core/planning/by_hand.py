"""What the person's own hands do next: one line that says it, and each number in it to be copied."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from grayshelf.core.flats.filter_words import NO_FILTER
from grayshelf.core.flats.panel.diffusers import listed
from grayshelf.core.flats.timed_light import Lit
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.model import RigSays
from grayshelf.core.planning.sheet import FlatSeries

#: A number and what it is of stay on one line.
NBSP = "\u00a0"


@dataclass(frozen=True)
class Dial:
    """One number to set: what it is called, as it is read, and as it is copied."""

    name: str
    text: str
    copied: str


@dataclass(frozen=True)
class HandLine:
    """What to do next."""

    before: str
    """What has to be so before a frame is shot: the light, the cap."""
    what: str
    """In one line: 'R, gain 100, offset 30: 25 flats of 0.85 s, panel at 20, focus 12,020, angle 91.2°'."""
    dials: tuple[Dial, ...]
    by_rig: str = ""
    """What devices of the rig set meanwhile, in a sentence; empty where hands, or the other program, set all."""


#: The name of the part of a rig that caps it, among what devices set; the others are the names of dials.
CAP = "cap"


_KIND_WORDS = {
    FrameKind.DARK: "dark",
    FrameKind.DARK_FLAT: "dark flat",
    FrameKind.BIAS: "bias frame",
    FrameKind.FLAT: "flat",
}


def _number(value: float) -> str:
    return f"{value:g}".replace("-", "−")


def _of(count: int, kind: FrameKind, exposure_s: float | None) -> str:
    one = _KIND_WORDS[kind]
    frames = f"{count} {one}{'s' if count != 1 else ''}"
    return frames if exposure_s is None else f"{frames} of {_number(exposure_s)}{NBSP}s"


def _settings(
    gain: float | None, offset: float | None, binning: int, gain_word: str, read_mode: str | None = None
) -> list[Dial]:
    dials = [
        Dial(name, f"{name}{NBSP}{_number(value)}", f"{value:g}")
        for name, value in ((gain_word, gain), ("offset", offset))
        if value is not None
    ]
    if binning != 1:
        dials.append(Dial("binning", f"binning{NBSP}{binning}", str(binning)))
    if read_mode is not None:
        dials.append(Dial("read-out mode", f"read-out mode {read_mode}", read_mode))
    return dials


def _exposure(exposure_s: float | None) -> list[Dial]:
    return (
        [] if exposure_s is None else [Dial("exposure", f"{_number(exposure_s)}{NBSP}s", f"{exposure_s:g}")]
    )


def _light_and_train(row: FlatSeries, brightness: int | None, light: str, lit: Lit | None) -> list[Dial]:
    """What is set beside the camera: the light, the focuser, the angle."""
    dials = [] if brightness is None else [Dial("brightness", f"{light} at {brightness}", str(brightness))]
    dials += _lit(lit)
    if row.focus is not None:
        dials.append(Dial("focus", f"focus{NBSP}{row.focus:,.0f}", f"{row.focus:.0f}"))
    if row.angle_deg is not None:
        dials.append(Dial("angle", f"angle{NBSP}{row.angle_deg:.1f}°", f"{row.angle_deg:.1f}"))
    return dials


def flats_line(
    row: FlatSeries,
    count: int,
    exposure_s: float | None,
    brightness: int | None,
    *,
    test: bool,
    light: str = "the light",
    gain_word: str = "gain",
    lit: Lit | None = None,
    by_rig: frozenset[str] = frozenset(),
    says: RigSays = RigSays(),
) -> HandLine:
    """What to do for a row's flats, or for the next test flat of its search.

    Parameters
    ----------
    count
        Flats that are left to be shot.
    exposure_s
        In seconds; None where it was not looked for.
    brightness
        What the light is to be set to; None where it has one brightness.
    lit
        When it is on, where that is within the exposure.
    by_rig
        Dials that devices of the rig set ('filter', 'brightness', 'focus', 'angle'), and `CAP` where it caps itself.
    says
        Of a camera that has no gain or offset to set: none is asked for.
    """
    gain, offset = says.to_set("gain", row.gain), says.to_set("offset", row.offset)
    settings = _settings(gain, offset, row.binning, gain_word, row.read_mode)
    where = _light_and_train(row, brightness, light, lit)
    shot = _exposure(exposure_s)
    if test:
        frames = "one test flat" + (f" of {shot[0].text}" if shot else "")
    else:
        frames = _of(count, FrameKind.FLAT, exposure_s)
    code = "" if row.filter_code == NO_FILTER else row.filter_code
    head = ", ".join([*([code] if code else []), *(d.text for d in settings)])
    behind = f", {listed(row.stack)} before it" if row.stack else ""
    filters = [Dial("filter", code, code)] if code else []
    driven = [d for d in (*filters, *where) if d.name in by_rig]
    where = [d for d in where if d not in driven]
    return HandLine(
        f"{'T' if CAP in by_rig else 'Cap off, t'}elescope at {light}{behind}.",
        ", ".join([f"{head}: {frames}" if head else frames, *(d.text for d in where)]),
        tuple(d for d in (*filters, *settings, *shot, *where) if d not in driven),
        _set_by_rig([d.text for d in driven]),
    )


def set_by_rig_itself(what: Sequence[str]) -> str:
    """That devices of the rig set these, in words.

    >>> set_by_rig_itself(["R", "panel at 20"])
    'the rig sets this itself: R, panel at 20'
    """
    return f"the rig sets this itself: {', '.join(what)}"


def _set_by_rig(what: Sequence[str]) -> str:
    told = set_by_rig_itself(what)
    return f"{told[:1].upper()}{told[1:]}." if what else ""


def _lit(lit: Lit | None) -> list[Dial]:
    """When a light is on within the exposure."""
    if lit is None:
        return []
    dark = f"{_number(lit.before_s)}{NBSP}s after it begins"
    return [
        Dial("lit for", f"lit for {_number(lit.lit_s)}{NBSP}s", f"{lit.lit_s:g}"),
        Dial("lit after", dark, f"{lit.before_s:g}"),
    ]


def lit_line(
    gain: float,
    offset: float,
    exposure_s: float,
    filter_code: str | None,
    brightness: int | None = None,
    *,
    gain_word: str = "gain",
    lit: Lit | None = None,
    by_rig: frozenset[str] = frozenset(),
    says: RigSays = RigSays(),
) -> HandLine:
    """What to do for one flat of `exposure_s` seconds that measures a camera: any even light, and nothing of it changed
    but the time that it is lit within the exposure, where that is how it is lit.

    `by_rig` and `says` as of `flats_line`; `brightness` of a panel that is among them.
    """
    settings = _settings(says.to_set("gain", gain), says.to_set("offset", offset), 1, gain_word)
    code = [Dial("filter", filter_code, filter_code)] if filter_code else []
    head = ", ".join(d.text for d in (*code, *settings))
    head = head if code or gain_word != "gain" else head[:1].upper() + head[1:]
    own = [filter_code] if filter_code and "filter" in by_rig else []
    lights_itself = brightness is not None and "brightness" in by_rig
    own += [f"the light at {brightness}"] if lights_itself else []
    one = _of(1, FrameKind.FLAT, exposure_s)
    at = "elescope at the light" + ("." if lights_itself else "; leave the light as it is.")
    return HandLine(
        f"{'T' if CAP in by_rig else 'Cap off, t'}{at}",
        ", ".join([f"{head}: {one}" if head else one, *(d.text for d in _lit(lit))]),
        (*(d for d in code if d.name not in by_rig), *settings, *_exposure(exposure_s), *_lit(lit)),
        _set_by_rig(own),
    )


def capped_line(
    kind: FrameKind,
    count: int,
    gain: float,
    offset: float,
    binning: int,
    exposure_s: float | None,
    set_temp_c: float | None = None,
    *,
    gain_word: str = "gain",
    read_mode: str | None = None,
    by_rig: frozenset[str] = frozenset(),
    says: RigSays = RigSays(),
) -> HandLine:
    """What to do for frames behind the cap: darks (`set_temp_c` in °C), dark flats, bias (without an exposure, s).

    `by_rig` and `says` as of `flats_line`.
    """
    set_to = says.to_set("gain", gain), says.to_set("offset", offset)
    settings = _settings(*set_to, binning, gain_word, read_mode)
    head = ", ".join(d.text for d in settings)
    head = head[:1].upper() + head[1:] if gain_word == "gain" else head
    dials = [*settings, *_exposure(exposure_s)]
    cold = ""
    if set_temp_c is not None:
        cold = f", sensor at {_number(set_temp_c)}{NBSP}°C"
        dials.append(Dial("set point", f"{_number(set_temp_c)}{NBSP}°C", f"{set_temp_c:g}"))
    dark = "the room dark" if "brightness" in by_rig else "the light and the room dark"
    before = f"{dark[:1].upper()}{dark[1:]}" if CAP in by_rig else f"Cap on, {dark}"
    own = [*(["cover shut"] if CAP in by_rig else []), *(["light off"] if "brightness" in by_rig else [])]
    return HandLine(
        f"{before}{cold}.",
        f"{head}: {_of(count, kind, exposure_s)}" if head else _of(count, kind, exposure_s),
        tuple(dials),
        _set_by_rig(own),
    )
