"""The sheets of a rig's parts: what can be typed on each, what cannot be, and how a change is told."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from grayshelf.core.digits import significant
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.frames.bounds import MOST_TEXT
from grayshelf.core.rigs.train import MovedBy, PartKind

#: Parts of which no more is typed than a name and who moves them.
PLAIN_PARTS = (PartKind.COVER, PartKind.ROTATOR, PartKind.FOCUSER, PartKind.MOUNT)
#: Parts that somebody moves or sets, and of which that can be said.
MOVABLE = (*PLAIN_PARTS, PartKind.FILTERS)
#: The quantity of the slips that a part decides: where it is fixed or absent, it is not judged.
QUANTITY_OF = {PartKind.ROTATOR: "angle", PartKind.FILTERS: "filter", PartKind.FOCUSER: "focus"}
#: A faster or slower train is a slip of the pen.
FOCAL_RATIOS = (0.3, 200.0)


@dataclass(frozen=True)
class TelescopeCard:
    """A telescope with its reducer or extender: one train."""

    aperture_mm: float | None = None
    focal_length_mm: float | None = None
    reducer: str = ""

    def __post_init__(self) -> None:
        for value, what, most in (
            (self.aperture_mm, "aperture", 20_000.0),
            (self.focal_length_mm, "focal length", 200_000.0),
        ):
            if value is not None and not 1.0 <= value <= most:
                raise GrayShelfError(f"The {what} must lie between 1 and {most:,.0f} mm.")
        if self.aperture_mm is not None and self.focal_length_mm is not None:
            ratio = self.focal_length_mm / self.aperture_mm
            if not FOCAL_RATIOS[0] <= ratio <= FOCAL_RATIOS[1]:
                raise GrayShelfError(
                    f"{self.focal_length_mm:g} mm with {self.aperture_mm:g} mm of aperture is f/{significant(ratio, 3)}: no telescope is.",
                    "Both are in millimetres.",
                )


@dataclass(frozen=True)
class FilterCard:
    """One filter."""

    code: str
    name: str = ""
    centre_nm: float | None = None
    width_nm: float | None = None
    gain: float | None = None
    """That it is usually used at."""
    focus: float | None = None
    brightness: int | None = None
    """Of the light, for its flats, where nothing was found yet."""

    def __post_init__(self) -> None:
        if not self.code.strip() or len(self.code) > MOST_TEXT:
            raise GrayShelfError(f"A filter needs a code of up to {MOST_TEXT} letters, as L or Ha.")
        if self.centre_nm is not None and not 200.0 <= self.centre_nm <= 2_500.0:
            raise GrayShelfError(
                f"{self.code}: a centre of {self.centre_nm:g} nm is outside of what a camera sees.",
                f"In Å? Then it is {self.centre_nm / 10:g} nm."
                if self.centre_nm > 2_500.0
                else "Write it in nm.",
            )
        if self.width_nm is not None and not 0.05 <= self.width_nm <= 1_500.0:
            raise GrayShelfError(f"{self.code}: its width must lie between 0.05 and 1,500 nm.")
        if self.gain is not None and not 0.0 <= self.gain <= 1e6:
            raise GrayShelfError(f"{self.code}: its gain must not be below zero.")
        if self.brightness is not None and not 0 <= self.brightness <= 65_535:
            raise GrayShelfError(f"{self.code}: the brightness is a whole number from 0 to 65,535.")


def check_filters(filters: Sequence[FilterCard]) -> None:
    """Refuse two filters that could not be told apart.

    Raises
    ------
    GrayShelfError
    """
    seen: dict[str, str] = {}
    for one in filters:
        plain = one.code.strip().casefold()
        if plain in seen:
            raise GrayShelfError(f"Two filters are called {one.code}.", "Give one of them another code.")
        seen[plain] = one.code
    if len(filters) > 40:
        raise GrayShelfError("Up to 40 filters can be kept with a rig.")


@dataclass(frozen=True)
class PartCard:
    """A part that is moved, or is not there."""

    name: str = ""
    moved_by: MovedBy = MovedBy.NOBODY_SAID


@dataclass(frozen=True)
class SiteCard:
    """The place where a rig stands, where that is not the library's site.

    Raises
    ------
    GrayShelfError
        Where there is no such place: latitudes lie within ±90°, longitudes within ±180°, and both are said or none.
    """

    name: str = ""
    latitude: float | None = None
    """Degrees, north positive."""
    longitude: float | None = None
    """Degrees, east positive."""
    time_zone: str = ""

    def __post_init__(self) -> None:
        if len(self.name) > 80:
            raise GrayShelfError("The name of a site has up to 80 letters.")
        if (self.latitude is None) != (self.longitude is None):
            raise GrayShelfError("A place has a latitude and a longitude.", "Type both, or neither.")
        if self.latitude is not None and not -90.0 <= self.latitude <= 90.0:
            raise GrayShelfError("A latitude lies between −90° and 90°; south is negative.")
        if self.longitude is not None and not -180.0 <= self.longitude <= 180.0:
            raise GrayShelfError("A longitude lies between −180° and 180°; west is negative.")
        if self.latitude is not None and not self.name.strip():
            raise GrayShelfError("A site of its own needs a name, so that it is told from the library’s.")

    @property
    def is_own(self) -> bool:
        """Whether a place was named; a time zone alone is none."""
        return bool(self.name) or self.latitude is not None


#: What fields are called, and their units.
_LABELS: dict[str, tuple[str, str]] = {
    "aperture_mm": ("aperture", "mm"),
    "focal_length_mm": ("focal length", "mm"),
    "reducer": ("reducer or extender", ""),
    "name": ("name", ""),
    "moved_by": ("moved by", ""),
    "centre_nm": ("centre", "nm"),
    "width_nm": ("width", "nm"),
    "gain": ("usual gain", ""),
    "focus": ("focus", "steps"),
    "brightness": ("brightness", ""),
    "cooled": ("cooler", ""),
    "below_air_c": ("below the air", "°C"),
    "bits": ("converter", "bits"),
    "shifted": ("levels shifted to 16 bits", ""),
    "offset_lowest": ("lowest offset", ""),
    "offset_highest": ("highest offset", ""),
    "gain_word": ("its gain is called", ""),
    "shutter": ("shutter", ""),
    "shortest_s": ("shortest exposure", "s"),
    "repeatable_from_s": ("repeats from", "s"),
    "drop_first": ("dropped at the start of a series", "frames"),
    "pause_s": ("pause between frames", "s"),
    "bias_usable": ("bias usable", ""),
    "read_noise_e": ("read noise", "e⁻"),
    "dark_rate_e_s": ("dark current", "e⁻/s"),
    "dark_rate_at_c": ("dark current measured at", "°C"),
    "lowest": ("lowest brightness", ""),
    "highest": ("highest brightness", ""),
    "dimmable": ("dimmable", ""),
    "pulse_hz": ("pulses at", "Hz"),
    "duty": ("lit share of a pulse", ""),
    "diffusers": ("diffusers", ""),
    "kind": ("what it is", ""),
    "before_s": ("dark before it is lit", "s"),
    "after_s": ("dark after it was lit", "s"),
    "shortest_lit_s": ("lit for at least", "s"),
    "retired": ("retired", ""),
    "panel_altitude_deg": ("altitude of the panel", "°"),
    "panel_azimuth_deg": ("azimuth of the panel", "°"),
    "horizon_deg": ("lowest altitude", "°"),
    "after": ("after flats", ""),
    "latitude": ("latitude", "°"),
    "longitude": ("longitude", "°"),
    "time_zone": ("time zone", ""),
}


def _is_empty(value: Any) -> bool:
    return value is None or value in ("", [])


#: Who moves a part, as it is told of a change.
_MOVERS = {
    MovedBy.HAND: "a hand",
    MovedBy.FIXED: "nobody: it stays",
    MovedBy.ABSENT: "nobody: it is not there",
}


def _told(value: Any, unit: str) -> str:
    if _is_empty(value):
        return "not said"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, (int, float)):
        return f"{value:g} {unit}".strip().replace("-", "−")
    if isinstance(value, Mapping):
        return str(value.get("name", ""))
    if isinstance(value, list):
        return ", ".join(str(v.get("name", v)) if isinstance(v, Mapping) else str(v) for v in value)
    return _MOVERS.get(value, str(value))


def differences(before: Mapping[str, Any], after: Mapping[str, Any]) -> list[str]:
    """Each field that changed, with its unit, as it is now and as it was: 'aperture 92 mm (90 mm before)'."""
    told = []
    for name in after:
        was, now = before.get(name), after[name]
        if was == now or (_is_empty(was) and _is_empty(now)):
            continue
        if name == "filters":
            told += _filters_differ(was or [], now or [])
            continue
        label, unit = _LABELS.get(name, (name.replace("_", " "), ""))
        before_that = "" if _is_empty(was) else f" ({_told(was, unit)} before)"
        told.append(f"{label} {_told(now, unit)}{before_that}")
    return told


def _filters_differ(before: Sequence[Mapping[str, Any]], after: Sequence[Mapping[str, Any]]) -> list[str]:
    was, now = ({f["code"]: f for f in side} for side in (before, after))
    told = [f"{code} put in" for code in now if code not in was]
    told += [f"{code} taken out" for code in was if code not in now]
    for code in now:
        if code in was:
            told += [f"{code}: {text}" for text in differences(was[code], now[code])]
    if not told and list(was) != list(now):
        told.append(f"in the order {', '.join(now)}")
    return told
