"""What is known of a camera beside what its frames and the Bench say."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from typing import Any, Literal

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.search.window import CameraTraits, Shutter
from grayshelf.core.matching.model import SensorTraits

SHUTTERS = ("electronic", "slow", "curtain")
GainWord = Literal["gain", "ISO"]


@dataclass(frozen=True)
class _Between:
    least: float
    most: float
    otherwise: str


_BOUNDS = {
    "below_air_c": _Between(5.0, 80.0, "A cooler holds a sensor 5 to 80 °C below the air."),
    "shortest_s": _Between(1e-6, 60.0, "The shortest exposure lies above zero and below 60 s."),
    "repeatable_from_s": _Between(
        0.0, 60.0, "The shortest exposure that repeats lies between 0 and 60 s; 0 where all do."
    ),
    "drop_first": _Between(0, 50, "0 to 50 frames can be dropped at the start of a series."),
    "bits": _Between(8, 16, "A converter has 8 to 16 bits."),
    "offset_lowest": _Between(0, 65_535, "Offsets lie between 0 and 65,535."),
    "offset_highest": _Between(0, 65_535, "Offsets lie between 0 and 65,535."),
    "pause_s": _Between(0.0, 600.0, "The pause between frames lies between 0 and 600 s."),
    "read_noise_e": _Between(0.1, 100.0, "Read noise lies between 0.1 and 100 e⁻."),
    "dark_rate_e_s": _Between(1e-6, 100.0, "Dark current lies above zero and below 100 e⁻/s."),
    "dark_rate_at_c": _Between(
        -80.0, 60.0, "The temperature of the dark current lies between −80 and 60 °C."
    ),
}
#: Air is not the same all night: so far beyond its reach, in °C, a cooler is let try.
AIR_VARIES_C = 2.0
#: Figures by which its dark current is this camera’s own.
_DARK_FIGURES = ("dark_rate_e_s", "hot_rate_e_s")


@dataclass(frozen=True)
class CameraCard:
    """What a person said of a camera. None is *not said*."""

    cooled: bool | None = None
    below_air_c: float | None = None
    """So far below the air its cooler holds the sensor."""
    bits: int | None = None
    """Of its converter."""
    shifted: bool | None = None
    """Whether its program moves the bits up to fill 16, so that levels step by 4 or 16; another program may not."""
    offset_lowest: float | None = None
    offset_highest: float | None = None
    gain_word: GainWord | None = None
    shutter: Shutter | None = None
    shortest_s: float | None = None
    repeatable_from_s: float | None = None
    drop_first: int | None = None
    """Frames at the start of a series that have not settled: they are set aside."""
    pause_s: float | None = None
    bias_usable: bool | None = None
    """False where the shortest exposures are not stable: a bias then stands in for no dark flat."""
    read_noise_e: float | None = None
    dark_rate_e_s: float | None = None
    dark_rate_at_c: float | None = None
    hot_rate_e_s: float | None = None
    electrons_per_adu: float | None = None

    def __post_init__(self) -> None:
        for name, bound in _BOUNDS.items():
            value = getattr(self, name)
            if value is not None and not bound.least <= value <= bound.most:
                raise GrayShelfError(bound.otherwise)
        if self.shutter is not None and self.shutter not in SHUTTERS:
            raise GrayShelfError(f"A shutter is {', '.join(SHUTTERS)}, not ‘{self.shutter}’.")
        if (
            self.offset_lowest is not None
            and self.offset_highest is not None
            and self.offset_highest <= self.offset_lowest
        ):
            raise GrayShelfError("Offsets go from a lower to a higher one.", "Turn the two around.")
        if self.gain_word not in (None, "gain", "ISO"):
            raise GrayShelfError("A camera has a gain or an ISO.")
        if self.cooled is False and self.below_air_c is not None:
            raise GrayShelfError(
                "A camera without a cooler holds nothing below the air.",
                "Say that it is cooled, or leave the number out.",
            )

    @property
    def white_adu(self) -> int | None:
        """The highest level that its frames have, in ADU: ``65536 − 2^(16 − bits)`` where they are shifted, else ``2^bits − 1``;
        None where either is not known."""
        if self.bits is None or self.shifted is None:
            return None
        return 65536 - 2 ** (16 - self.bits) if self.shifted else 2**self.bits - 1

    @property
    def offset_range(self) -> tuple[float, float] | None:
        """The lowest and the highest offset that can be set; None where that is not known."""
        if self.offset_lowest is None or self.offset_highest is None:
            return None
        return self.offset_lowest, self.offset_highest

    def coldest_c(self, air_c: float | None) -> float | None:
        """The coldest that its cooler holds the sensor at, in °C, in air of `air_c` °C; None where that is not known."""
        return None if self.below_air_c is None or air_c is None else air_c - self.below_air_c

    def can_hold(self, temp_c: float, air_c: float | None) -> bool:
        """Whether its cooler may hold the sensor at `temp_c` °C in air of `air_c` °C; True where that is not known."""
        coldest = self.coldest_c(air_c)
        return coldest is None or temp_c >= coldest - AIR_VARIES_C

    def exposures(self) -> CameraTraits:
        """What bears on its exposures, in seconds."""
        usual = CameraTraits()
        return CameraTraits(
            usual.shortest_s if self.shortest_s is None else self.shortest_s,
            self.repeatable_from_s or 0.0,
            self.shutter or usual.shutter,
        )

    def sensor(self) -> SensorTraits:
        """For costs in electrons: its own figures (e⁻, e⁻/s at °C) over the usual ones.

        Of usual pixels and the hottest, the one that nobody said leaks in proportion to the other: usual figures belong to
        another temperature. A temperature alone says nothing.
        """
        own = {
            f.name: getattr(self, f.name)
            for f in fields(SensorTraits)
            if getattr(self, f.name, None) is not None
        }
        usual = SensorTraits()
        hot_times = usual.hot_rate_e_s / usual.dark_rate_e_s
        if self.dark_rate_e_s is not None and self.hot_rate_e_s is None:
            own["hot_rate_e_s"] = self.dark_rate_e_s * hot_times
        elif self.dark_rate_e_s is None and self.hot_rate_e_s is not None:
            own["dark_rate_e_s"] = self.hot_rate_e_s / hot_times
        elif self.dark_rate_e_s is None:
            own.pop("dark_rate_at_c", None)
        return replace(usual, **own, dark_assumed=not any(name in own for name in _DARK_FIGURES))


def camera_card(kept: Mapping[str, Any]) -> CameraCard:
    """A card from what is kept of it; what is no part of one, or cannot be, is left out."""
    card = CameraCard()
    for f in fields(CameraCard):
        if kept.get(f.name) is not None:
            try:
                card = replace(card, **{f.name: kept[f.name]})
            except (GrayShelfError, TypeError):
                continue
    return card
