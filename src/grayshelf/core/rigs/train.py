"""The train of a rig drawn: its parts in the order in which light meets them, what is known of each, and who moves it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from grayshelf.core.frames.facts import uses_iso


class PartKind(StrEnum):
    """The parts, in the order in which light meets them; mount and site carry the rest."""

    LIGHT = "light"
    COVER = "cover"
    TELESCOPE = "telescope"
    ROTATOR = "rotator"
    FILTERS = "filters"
    FOCUSER = "focuser"
    CAMERA = "camera"
    MOUNT = "mount"
    SITE = "site"


class MovedBy(StrEnum):
    """Who moves a part, or sets it."""

    RIG = "rig"
    HAND = "hand"
    FIXED = "fixed"
    ABSENT = "absent"
    NOBODY_SAID = ""


class Origin(StrEnum):
    """Where something is known from."""

    HEADERS = "headers"
    BENCH = "Bench"
    DEVICE = "device"
    TYPED = "typed"


@dataclass(frozen=True)
class Known:
    """One thing that is known of a part, in a line, and where from."""

    text: str
    origin: Origin


@dataclass(frozen=True)
class Part:
    """One part of the train; its own name is empty where it has none."""

    kind: PartKind
    name: str
    known: tuple[Known, ...]
    moved_by: MovedBy
    by_itself: str = ""
    """What the rig does with it by itself tonight; empty where it does nothing."""
    asks: str = ""
    """What a hand is asked for; empty where none is."""

    @property
    def is_open(self) -> bool:
        """Nothing is known of it, nor that it is absent: an outline to fill."""
        return not self.known and not self.name and self.moved_by is MovedBy.NOBODY_SAID


@dataclass(frozen=True)
class SeenTelescope:
    """A telescope as headers name it."""

    name: str | None
    focal_length_mm: float | None
    frames: int


@dataclass(frozen=True)
class SeenFilter:
    """A filter of the rig: typed, seen in headers, or both."""

    code: str
    frames: int = 0
    centre_nm: float | None = None
    width_nm: float | None = None
    typed: bool = True


@dataclass(frozen=True)
class TrainFacts:
    """All that is known of a rig, from wherever, gathered for drawing it. None and empty are *not known*."""

    # typed
    names: dict[PartKind, str] = field(default_factory=dict)
    moved_by: dict[PartKind, MovedBy] = field(default_factory=dict)
    telescope: str | None = None
    aperture_mm: float | None = None
    focal_length_mm: float | None = None
    typed_telescope: bool = False
    cooled: bool | None = None
    below_air_c: float | None = None
    # the light
    light: str = ""
    brightness: tuple[int, int] | None = None
    light_kind: str = ""
    light_of_device: bool = False  # its range is what the panel says
    lit_within_s: tuple[float, float] | None = None
    """Dark before and after the light, where it is lit within the exposure."""
    pulse_hz: float | None = None
    diffusers: tuple[str, ...] = ()
    curve_shots: int = 0
    # headers
    telescopes: tuple[SeenTelescope, ...] = ()
    filters: tuple[SeenFilter, ...] = ()
    angles_deg: tuple[float, float] | None = None
    focus: tuple[float, float] | None = None
    size: tuple[int, int] | None = None
    pixel_um: float | None = None
    sample_step: int | None = None
    bayer_pattern: str | None = None
    gains: tuple[float, ...] = ()
    read_modes: tuple[str, ...] = ()
    offsets: tuple[float, ...] = ()
    # the Bench
    gains_measured: tuple[float, ...] = ()
    offsets_checked: tuple[float, ...] = ()
    # devices
    connected: bool = False
    drives: frozenset[PartKind] = frozenset()
    """Parts that a device moves: the light's brightness, the wheel, rotator, focuser, camera."""
    device_cooled: bool | None = None
    device_gain_range: tuple[float, float] | None = None
    device_wheel: tuple[str, ...] = ()
    mount_shared_with: tuple[str, ...] = ()
    """Other rigs on the same mount."""
    # the site
    site: str = ""
    time_zone: str = ""
    latitude_deg: float | None = None
    longitude_deg: float | None = None


#: What is asked of a hand at each part, and what a device does with it.
_HAND = {
    PartKind.LIGHT: "set the light’s brightness",
    PartKind.COVER: "put the cap on and off",
    PartKind.ROTATOR: "turn the camera",
    PartKind.FILTERS: "change filters",
    PartKind.FOCUSER: "set the focus",
    PartKind.CAMERA: "shoot with the program that runs the camera",
    PartKind.MOUNT: "point the telescope at the light",
}
_DEVICE = {
    PartKind.LIGHT: "sets the light’s brightness",
    PartKind.COVER: "closes the cover",
    PartKind.ROTATOR: "turns the camera",
    PartKind.FILTERS: "brings filters in",
    PartKind.FOCUSER: "sets the focus",
    PartKind.CAMERA: "shoots",
    PartKind.MOUNT: "points the telescope",
}


def draw_train(facts: TrainFacts) -> tuple[Part, ...]:
    """All parts of a rig, in the order in which light meets them, then mount and site."""
    return tuple(_part(kind, facts) for kind in PartKind)


def _part(kind: PartKind, facts: TrainFacts) -> Part:
    moved_by = _mover(kind, facts)
    name, known = _KNOWN[kind](facts)
    return Part(
        kind,
        facts.names.get(kind) or name,
        tuple(known),
        moved_by,
        by_itself=_DEVICE.get(kind, "") if moved_by is MovedBy.RIG else "",
        asks=_asks(kind, moved_by, facts),
    )


def _mover(kind: PartKind, facts: TrainFacts) -> MovedBy:
    if kind in (PartKind.TELESCOPE, PartKind.SITE):
        return MovedBy.FIXED
    if kind in facts.drives:
        return MovedBy.RIG
    said = facts.moved_by.get(kind, MovedBy.NOBODY_SAID)
    if said is not MovedBy.NOBODY_SAID:
        return said
    if kind is PartKind.LIGHT:
        if not facts.light:
            return MovedBy.NOBODY_SAID
        return MovedBy.HAND if facts.brightness else MovedBy.FIXED
    if kind is PartKind.CAMERA:
        return MovedBy.HAND
    if kind is PartKind.FILTERS and len(facts.filters) > 1:
        return MovedBy.HAND
    moves = {PartKind.ROTATOR: facts.angles_deg, PartKind.FOCUSER: facts.focus}.get(kind)
    # Headers that tell several positions tell that it is moved.
    return MovedBy.HAND if moves is not None and moves[1] > moves[0] else MovedBy.NOBODY_SAID


def _asks(kind: PartKind, moved_by: MovedBy, facts: TrainFacts) -> str:
    if moved_by is MovedBy.RIG or kind not in _HAND:
        return ""
    if kind is PartKind.LIGHT:
        if not facts.light:
            return "bring a light, and say which"
        return _HAND[kind] if moved_by is MovedBy.HAND else ""
    if kind in (PartKind.COVER, PartKind.MOUNT):
        # The cap is always somebody's, and a light has to be faced, whatever was said.
        return _HAND[kind]
    return _HAND[kind] if moved_by is MovedBy.HAND else ""


def by_itself(parts: Sequence[Part]) -> list[str]:
    """What Gray Shelf would do by itself tonight, in the order of the light."""
    return [part.by_itself for part in parts if part.by_itself]


def asked(parts: Sequence[Part]) -> list[str]:
    """What it would ask of the person."""
    return [part.asks for part in parts if part.asks]


# -- what is known of each part ---------------------------------------------------------------------------------

Told = tuple[str, list[Known]]


def _light(facts: TrainFacts) -> Told:
    known = []
    if facts.light and facts.light_kind not in ("", "panel"):
        known.append(Known(f"a {facts.light_kind}", Origin.TYPED))
    if facts.brightness is not None:
        low, high = facts.brightness
        told = Origin.DEVICE if facts.light_of_device else Origin.TYPED
        known.append(Known(f"brightness {low} to {high}", told))
    elif facts.light:
        known.append(Known("one brightness", Origin.TYPED))
    if facts.lit_within_s is not None:
        before, after = facts.lit_within_s
        known.append(
            Known(f"lit within the exposure, dark for {before:g} s before, {after:g} s after", Origin.TYPED)
        )
    if facts.pulse_hz is not None:
        known.append(Known(f"pulses at {facts.pulse_hz:g} Hz", Origin.TYPED))
    if facts.diffusers:
        known.append(Known(_listed(facts.diffusers), Origin.TYPED))
    if facts.curve_shots:
        known.append(Known(f"measured with {facts.curve_shots} shots", Origin.BENCH))
    return facts.light, known


def _named(kind: PartKind, facts: TrainFacts) -> str:
    return facts.names.get(kind, "")


def _cover(facts: TrainFacts) -> Told:
    return _named(PartKind.COVER, facts), []


def _telescope(facts: TrainFacts) -> Told:
    known = []
    origin = Origin.TYPED if facts.typed_telescope else Origin.HEADERS
    if facts.aperture_mm and facts.focal_length_mm:
        ratio = facts.focal_length_mm / facts.aperture_mm
        known.append(Known(f"{facts.aperture_mm:g} mm f/{ratio:.3g}, {facts.focal_length_mm:g} mm", origin))
    elif facts.focal_length_mm:
        known.append(Known(f"{facts.focal_length_mm:g} mm", origin))
    elif facts.aperture_mm:
        known.append(Known(f"{facts.aperture_mm:g} mm aperture", origin))
    frames = sum(t.frames for t in facts.telescopes if t.name)
    if frames:
        known.append(Known(f"named by {_several(frames, 'frame')}", Origin.HEADERS))
    return facts.telescope or "", known


def _range(low: float, high: float, unit: str, digits: int) -> str:
    space = "" if unit == "°" else " "
    first, last = f"{low:,.{digits}f}", f"{high:,.{digits}f}"
    text = first if first == last else f"{first} to {last}"
    return f"{text}{space}{unit}".replace("-", "−")


def _rotator(facts: TrainFacts) -> Told:
    known = []
    if facts.angles_deg is not None:
        known.append(Known(_range(*facts.angles_deg, "°", 1), Origin.HEADERS))
    return _named(PartKind.ROTATOR, facts), known


def _filters(facts: TrainFacts) -> Told:
    known = []
    if facts.filters:
        typed = any(f.typed for f in facts.filters)
        codes = ", ".join(f.code for f in facts.filters)
        known.append(Known(codes, Origin.TYPED if typed else Origin.HEADERS))
    narrow = [f.code for f in facts.filters if is_narrow(f.width_nm)]
    if narrow:
        known.append(Known(f"narrow: {', '.join(narrow)}", Origin.TYPED))
    if facts.device_wheel:
        known.append(Known(f"a wheel of {len(facts.device_wheel)}", Origin.DEVICE))
    return _named(PartKind.FILTERS, facts), known


#: Filters up to this width pass single lines (common practice: 3 to 12 nm).
NARROW_NM = 15.0


def is_narrow(width_nm: float | None) -> bool:
    """Whether a filter passes single lines: its width is `NARROW_NM` nm or less. False where it is not known."""
    return width_nm is not None and width_nm <= NARROW_NM


def _focuser(facts: TrainFacts) -> Told:
    known = []
    if facts.focus is not None:
        known.append(Known(_range(*facts.focus, "steps", 0), Origin.HEADERS))
    return _named(PartKind.FOCUSER, facts), known


def _camera(facts: TrainFacts) -> Told:
    known = []
    if facts.size is not None:
        width, height = facts.size
        colour = "colour" if facts.bayer_pattern else "mono"
        pixel = f", {facts.pixel_um:g} µm" if facts.pixel_um else ""
        known.append(Known(f"{width:,} × {height:,}{pixel}, {colour}", Origin.HEADERS))
    cooled = facts.device_cooled if facts.device_cooled is not None else facts.cooled
    if cooled is not None:
        below = f", {facts.below_air_c:g} °C below the air" if facts.below_air_c else ""
        words = f"cooled{below}" if cooled else "no cooler"
        known.append(Known(words, Origin.DEVICE if facts.device_cooled is not None else Origin.TYPED))
    if facts.gains:
        word = "ISO" if uses_iso(facts.gains) else "gain"
        known.append(Known(f"{word} {', '.join(f'{g:g}' for g in facts.gains[:4])}", Origin.HEADERS))
    if facts.offsets:
        known.append(Known(f"offset {', '.join(f'{o:g}' for o in facts.offsets[:4])}", Origin.HEADERS))
    if facts.read_modes:
        known.append(Known(f"read-out mode {_listed(facts.read_modes[:4])}", Origin.HEADERS))
    if facts.sample_step is not None and facts.sample_step > 1:
        bits = 16 - round(math.log2(facts.sample_step))
        known.append(Known(f"{bits} bits, levels step by {facts.sample_step}", Origin.HEADERS))
    if facts.device_gain_range is not None:
        low, high = facts.device_gain_range
        known.append(Known(f"gain {low:g} to {high:g}", Origin.DEVICE))
    if facts.gains_measured:
        known.append(Known(f"gain measured at {_numbers(facts.gains_measured)}", Origin.BENCH))
    if facts.offsets_checked:
        known.append(Known(f"offset checked at {_numbers(facts.offsets_checked)}", Origin.BENCH))
    return "", known


def _numbers(values: Sequence[float]) -> str:
    return _listed([f"{v:g}" for v in values])


def _mount(facts: TrainFacts) -> Told:
    known = []
    if facts.mount_shared_with:
        known.append(Known(f"carries {_listed(facts.mount_shared_with)}, too", Origin.TYPED))
    return _named(PartKind.MOUNT, facts), known


def _site(facts: TrainFacts) -> Told:
    known = []
    if facts.latitude_deg is not None and facts.longitude_deg is not None:
        north = "N" if facts.latitude_deg >= 0 else "S"
        east = "E" if facts.longitude_deg >= 0 else "W"
        place = f"{abs(facts.latitude_deg):.2f}° {north}, {abs(facts.longitude_deg):.2f}° {east}"
        known.append(Known(place, Origin.TYPED))
    if facts.time_zone:
        known.append(Known(facts.time_zone, Origin.TYPED))
    return facts.site, known


def _listed(words: Sequence[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


def _several(count: int, one: str) -> str:
    return f"{count:,} {one}{'s' if count != 1 else ''}"


_KNOWN = {
    PartKind.LIGHT: _light,
    PartKind.COVER: _cover,
    PartKind.TELESCOPE: _telescope,
    PartKind.ROTATOR: _rotator,
    PartKind.FILTERS: _filters,
    PartKind.FOCUSER: _focuser,
    PartKind.CAMERA: _camera,
    PartKind.MOUNT: _mount,
    PartKind.SITE: _site,
}
