"""What is wished of the flats of a rig or of one row of its sheet, in the units people use."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Any, NamedTuple

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.model import Bound, ExposureWindow, FlatTarget, Mode
from grayshelf.core.flats.search.window import CURTAIN_S, Shutter

MODES = ("time", "brightness", "both")
#: Exposure to come near where nobody wishes another one (common practice: a few seconds).
USUAL_EXPOSURE_S = 2.0
#: No target lies above this share of the range.
HIGHEST_TARGET = 0.95
#: Wishes that take the place of another one: a row that sets one of them lets go of the others.
INSTEAD_OF = (("level_percent", "level_adu", "level_electrons"), ("tolerance_percent", "tolerance_adu"))


@dataclass(frozen=True)
class RowKey:
    """What makes a row: nothing here is left at what the camera happens to have."""

    filter_code: str
    gain: float
    offset: float
    binning: int

    def __str__(self) -> str:
        return f"{self.filter_code}:g{self.gain:g}:o{self.offset:g}:b{self.binning}"

    @property
    def as_json(self) -> dict[str, Any]:
        """The key as plain data."""
        return {
            "filter_code": self.filter_code,
            "gain": self.gain,
            "offset": self.offset,
            "binning": self.binning,
        }


class _Wished(NamedTuple):
    """Between what a wish must lie, both ends included, and what is said where it does not."""

    least: float
    most: float
    otherwise: str


_COUNTS = "How many frames: from 0 to 1,000."
_BOUNDS = {
    "level_percent": _Wished(1.0, 90.0, "The target level must lie between 1 and 90 % of the range."),
    "level_adu": _Wished(500.0, 62_000.0, "The target level must lie between 500 and 62,000 ADU."),
    "level_electrons": _Wished(50.0, 1e6, "The target level must lie between 50 and 1,000,000 electrons."),
    "tolerance_percent": _Wished(0.5, 50.0, "The tolerance must lie between 0.5 and 50 % of the target."),
    "tolerance_adu": _Wished(50.0, 20_000.0, "The tolerance must lie between 50 and 20,000 ADU."),
    "brightness": _Wished(0, 65_535, "The brightness must be a whole number from 0."),
    "n_flats": _Wished(0, 1000, _COUNTS),
    "n_dark_flats": _Wished(0, 1000, _COUNTS),
}


@dataclass(frozen=True)
class FlatWishes:
    """Target, tolerance, window, way of searching, source and counts.

    Common practice, no published source: a third to a half of the range, ±10 % of the target.
    """

    level_percent: float = 45.0
    """Of the range from 0 to white."""
    level_adu: float | None = None
    """Instead of the percentage."""
    level_electrons: float | None = None
    """Above the pedestal, instead of both."""
    tolerance_percent: float = 10.0
    """Of the target."""
    tolerance_adu: float | None = None
    """Instead of the percentage."""
    shortest_s: float = 0.5
    shortest_reason: str = "shorter ones may band, or not repeat"
    longest_s: float = 30.0
    longest_reason: str = "your limit"
    linear_limit_percent: float = 92.0
    mode: Mode = "time"
    brightness: int | None = None
    exposure_s: float | None = None
    n_flats: int = 25
    n_dark_flats: int = 25
    source: str = ""
    """Name of the light; empty takes the rig's."""
    diffusers: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        object.__setattr__(self, "diffusers", tuple(self.diffusers))
        for name, bound in _BOUNDS.items():
            value = getattr(self, name)
            if value is not None and not bound.least <= value <= bound.most:
                raise GrayShelfError(bound.otherwise)
        if not 0.0 < self.shortest_s < self.longest_s <= 3600.0:
            raise GrayShelfError("The shortest exposure must be above zero and below the longest.")
        if self.mode not in MODES:
            raise GrayShelfError(f"A search is for {', '.join(MODES)}, not '{self.mode}'.")
        if self.exposure_s is not None and not 0.0 < self.exposure_s <= 3600.0:
            raise GrayShelfError("The exposure must lie above zero and below an hour.")
        if len(self.diffusers) > 8 or not all(isinstance(n, str) and n.strip() for n in self.diffusers):
            raise GrayShelfError("Up to eight diffusers can hang before a light, each with a name.")

    def target(
        self,
        white_adu: float,
        linear_limit_adu: float | None = None,
        e_per_adu: float | None = None,
        pedestal_adu: float = 0.0,
    ) -> FlatTarget:
        """The target in ADU for a camera that is full at `white_adu`.

        Parameters
        ----------
        linear_limit_adu
            As measured at the gain to be used; None takes the usual share of the range.
        e_per_adu, pedestal_adu
            Needed where the target is given in electrons above the pedestal.

        Raises
        ------
        GrayShelfError
            Where electrons are asked for and nobody knows how many are in an ADU, or more than a pixel gives.
        """
        level = white_adu * self.level_percent / 100.0 if self.level_adu is None else self.level_adu
        if self.level_electrons is not None:
            if not e_per_adu:
                raise GrayShelfError(
                    "The target is given in electrons, but nobody knows how many are in an ADU at this gain.",
                    "Measure the gain on the Bench, or give the target in ADU.",
                )
            level = pedestal_adu + self.level_electrons / e_per_adu
            most = HIGHEST_TARGET * white_adu
            if level > most:
                raise GrayShelfError(
                    f"{self.level_electrons:,.0f} electrons are more than a pixel gives at this gain: "
                    f"near full it has {(most - pedestal_adu) * e_per_adu:,.0f}.",
                    "Ask for fewer, or shoot at a lower gain.",
                )
        level = min(level, HIGHEST_TARGET * white_adu)
        share = self.tolerance_percent / 100.0
        tolerance = level * share if self.tolerance_adu is None else self.tolerance_adu
        limit = (
            white_adu * self.linear_limit_percent / 100.0 if linear_limit_adu is None else linear_limit_adu
        )
        return FlatTarget(level, tolerance, white_adu, limit)

    @property
    def preferred_s(self) -> float:
        """The exposure that stays, or that is to be come near, where the brightness is looked for."""
        return self.exposure_s if self.exposure_s is not None else USUAL_EXPOSURE_S

    @property
    def shortest(self) -> Bound:
        """The shortest exposure that the person allows."""
        return Bound(self.shortest_s, self.shortest_reason)

    @property
    def longest(self) -> Bound:
        """The longest exposure that the person allows."""
        return Bound(self.longest_s, self.longest_reason)

    def window(self, probe_s: float = 0.02) -> ExposureWindow:
        """The exposures that the person allows, with the reasons of their bounds."""
        return ExposureWindow(self.shortest, self.longest, probe_s)


def usual_wishes(shutter: Shutter | None, *, iso: bool) -> dict[str, Any]:
    """What is wished of a camera's flats where nobody said otherwise: with a curtain, shorter ones than of other cameras.

    Parameters
    ----------
    shutter
        None where nobody said what the camera has.
    iso
        Whether its gains are ISO values: such cameras have curtains (common practice).
    """
    curtain = iso if shutter is None else shutter == "curtain"
    return {"shortest_s": CURTAIN_S, "shortest_reason": "the curtain is slower than that"} if curtain else {}


def wishes_from(*layers: Mapping[str, Any]) -> FlatWishes:
    """Wishes from the rig's, overlaid by a row's own: what a later layer sets, counts."""
    known = {f.name for f in fields(FlatWishes)}
    values: dict[str, Any] = {}
    for layer in layers:
        for group in INSTEAD_OF:
            if any(layer.get(name) is not None for name in group):
                for name in group:
                    values.pop(name, None)
        values.update({k: v for k, v in layer.items() if k in known})
    return FlatWishes(**values)
