"""House rules of a rig: how many frames, how near is near enough, how long what is good. All are the user's."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from enum import StrEnum
from typing import Any

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.letting_go import RawFrames
from grayshelf.core.matching.model import Tolerances
from grayshelf.core.planning.flats_go import FlatsGo


class FlatsWhen(StrEnum):
    """When flats are shot."""

    EACH_NIGHT = "each night"
    EACH_SET_UP = "once per set-up"
    WHEN_MOVED = "when something moved"


#: For so many nights a set-up is taken to stay as it is where nobody says otherwise.
SET_UP_NIGHTS = 14


@dataclass(frozen=True)
class Rule:
    """One rule that is a number: how it is said, its unit, and between what it must lie."""

    name: str
    group: str
    says: str
    """A sentence with '{}' where the number stands."""
    unit: str
    least: float
    most: float
    whole: bool = False
    shown_times: float = 1.0
    """The number is told so many times as large: shares in percent."""

    def told(self, value: float) -> str:
        """A value of it with its unit."""
        return in_unit(value * self.shown_times, self.unit)


RULES: tuple[Rule, ...] = (
    Rule("n_flats", "How many", "{} flats in each filter", "", 3, 500, whole=True),
    Rule("n_dark_flats", "How many", "{} dark flats under them", "", 0, 500, whole=True),
    Rule("n_darks", "How many", "{} darks of each kind", "", 3, 500, whole=True),
    Rule("n_bias", "How many", "{} bias of each gain and offset", "", 3, 1000, whole=True),
    Rule(
        "few_frames_percent", "How many", "few frames ask for care above {} of added noise", "%", 0.1, 100.0
    ),
    Rule("dither_positions", "Counts", "lights are dithered over {} positions", "", 1, 1000, whole=True),
    Rule("dark_temp_c", "Darks", "temperature within {}", "°C", 0.1, 20.0),
    Rule("dark_exposure_percent", "Darks", "exposure within {}", "%", 0.1, 50.0),
    Rule("dark_age_days", "Darks", "good for {}", "days", 1, 5000, whole=True),
    Rule(
        "mismatch_share",
        "Darks",
        "beyond that with care, up to {} of the lights’ own noise",
        "%",
        0.0,
        2.0,
        shown_times=100.0,
    ),
    Rule(
        "uncooled_same_night_c", "Darks", "without a cooler, the same night’s up to {} off", "°C", 0.1, 40.0
    ),
    Rule("bias_age_days", "Bias", "good for {}", "days", 1, 5000, whole=True),
    Rule("flat_nights", "Flats", "serve lights up to {} away", "nights", 0, 5000, whole=True),
    Rule("flat_angle_deg", "Flats", "camera angle within {}", "°", 0.05, 45.0),
    Rule("flat_focus_steps", "Flats", "focus within {}", "steps", 1.0, 1e6),
    Rule("focal_length_percent", "Flats", "focal length within {}", "%", 0.1, 20.0),
    Rule("dark_flat_exposure_percent", "Dark flats", "exposure within {} of the flat’s", "%", 0.1, 50.0),
    Rule("dark_flat_temp_c", "Dark flats", "temperature within {} of the flat’s", "°C", 0.1, 40.0),
    Rule("raw_days", "Raw frames", "{} after their night", "days", 0, 5000, whole=True),
)
_BY_NAME = {rule.name: rule for rule in RULES}
_OF_TOLERANCES = tuple(f.name for f in fields(Tolerances) if f.name != "train_stays_put")
#: Standard darks: more than these make a library nobody fills.
MOST_STANDARDS = 24


@dataclass(frozen=True)
class HouseRules:
    """What holds for a rig."""

    tolerances: Tolerances = field(default_factory=Tolerances)
    flats_when: FlatsWhen = FlatsWhen.EACH_NIGHT
    flats_go: FlatsGo = FlatsGo.AT_THE_END
    n_flats: int = 25
    n_dark_flats: int = 25
    n_darks: int = 30
    n_bias: int = 100
    bias_under_flats: bool = False
    """A bias stands in for dark flats, which are not shot."""
    dark_temps_c: tuple[float, ...] = ()
    """Standard temperatures of its darks; empty where only lights ask for darks."""
    dark_exposures_s: tuple[float, ...] = ()
    raw_frames: RawFrames = RawFrames.KEPT
    """What becomes of raw frames once a master stands for them: offered under *Room*, never done by itself."""
    raw_days: int = 90
    """So many days after their night."""

    def value(self, name: str) -> float:
        """The number of a rule."""
        return float(getattr(self.tolerances if name in _OF_TOLERANCES else self, name))

    def __post_init__(self) -> None:
        for rule in RULES:
            _check(rule, self.value(rule.name))
        object.__setattr__(
            self, "dark_temps_c", _standards(self.dark_temps_c, -80.0, 50.0, "temperatures", "°C")
        )
        object.__setattr__(
            self, "dark_exposures_s", _standards(self.dark_exposures_s, 1e-5, 7200.0, "exposures", "s")
        )
        stays = self.flats_when is FlatsWhen.WHEN_MOVED
        if self.tolerances.train_stays_put != stays:
            object.__setattr__(self, "tolerances", replace(self.tolerances, train_stays_put=stays))

    def changed(self, changes: Mapping[str, Any]) -> HouseRules:
        """The rules with some of them changed.

        Raises
        ------
        GrayShelfError
            Where there is no such rule, or its value cannot be.
        """
        unknown = sorted(
            changes.keys()
            - _BY_NAME.keys()
            - {"flats_when", "flats_go", "raw_frames", "bias_under_flats", *_LISTS}
        )
        if unknown:
            raise GrayShelfError(f"There is no house rule ‘{unknown[0]}’.")
        near: dict[str, Any] = {k: _as(_BY_NAME[k], v) for k, v in changes.items() if k in _OF_TOLERANCES}
        own = {k: v for k, v in changes.items() if k not in _OF_TOLERANCES}
        own |= {k: _as(_BY_NAME[k], v) for k, v in own.items() if k in _BY_NAME}
        own |= {k: tuple(float(x) for x in v) for k, v in own.items() if k in _LISTS}
        if "flats_when" in own:
            own["flats_when"] = FlatsWhen(own["flats_when"])
            if own["flats_when"] is not self.flats_when and "flat_nights" not in near:
                near["flat_nights"] = _usual_nights(own["flats_when"], self.tolerances.flat_nights)
        if "flats_go" in own:
            own["flats_go"] = FlatsGo(own["flats_go"])
        if "raw_frames" in own:
            own["raw_frames"] = RawFrames(own["raw_frames"])
        return replace(self, tolerances=replace(self.tolerances, **near), **own)


_LISTS = ("dark_temps_c", "dark_exposures_s")


def rules_from(kept: Mapping[str, Any]) -> HouseRules:
    """Rules from what is kept of them (shares as shares, times in s, temperatures in °C); what is no rule, or cannot
    be, is left at the usual."""
    rules = HouseRules()
    # When flats are shot sets the usual nights: numbers that were chosen count over it.
    for name, value in sorted(kept.items(), key=lambda item: item[0] != "flats_when"):
        if value is not None:
            try:
                rules = rules.changed({name: value})
            except (GrayShelfError, TypeError, ValueError):
                continue
    return rules


def kept_of(rules: HouseRules) -> dict[str, Any]:
    """All rules as plain data, as `rules_from` reads them: shares as shares, times in s, temperatures in °C."""
    return {
        "flats_when": rules.flats_when.value,
        "flats_go": rules.flats_go.value,
        "raw_frames": rules.raw_frames.value,
        **{rule.name: _as(rule, rules.value(rule.name)) for rule in RULES},
        "bias_under_flats": rules.bias_under_flats,
        **{name: list(getattr(rules, name)) for name in _LISTS},
    }


def _usual_nights(when: FlatsWhen, now: int) -> int:
    if when is FlatsWhen.EACH_SET_UP:
        return SET_UP_NIGHTS
    return Tolerances().flat_nights if when is FlatsWhen.EACH_NIGHT else now


def _as(rule: Rule, value: float) -> float | int:
    _check(rule, float(value))
    return int(value) if rule.whole else float(value)


def _check(rule: Rule, value: float) -> None:
    # Also where it is no number.
    if not rule.least <= value <= rule.most:
        raise GrayShelfError(
            f"{_sentence(rule, rule.told(value))}: it must lie between "
            f"{in_unit(rule.least * rule.shown_times, '')} and {rule.told(rule.most)}."
        )
    if rule.whole and value != int(value):
        raise GrayShelfError(f"{_sentence(rule, 'N')}: a whole number is needed.")


def _standards(values: Sequence[float], least: float, most: float, what: str, unit: str) -> tuple[float, ...]:
    if len(values) > MOST_STANDARDS:
        raise GrayShelfError(f"Up to {MOST_STANDARDS} standard {what} can be kept.")
    if any(not least <= v <= most for v in values):
        raise GrayShelfError(f"Standard {what} lie between {in_unit(least, '')} and {in_unit(most, unit)}.")
    return tuple(sorted(set(values)))


def in_unit(value: float, unit: str) -> str:
    """'1 °C', '2 %', '0.1'."""
    number = f"{value:g}".replace("-", "−")
    return number + (unit if unit == "°" else f" {unit}" if unit else "")


def _sentence(rule: Rule, number: str) -> str:
    text = rule.says.format(number)
    return f"{rule.group}: {text}"


def changes_in_words(before: HouseRules, after: HouseRules) -> list[str]:
    """Each rule that changed, as it is now and as it was: 'Darks: temperature within 2 °C (1 °C before)'."""
    told = []
    if before.flats_when is not after.flats_when:
        told.append(f"Flats {after.flats_when} ({before.flats_when} before)")
    if before.flats_go is not after.flats_go:
        told.append(f"Flats go {after.flats_go} ({before.flats_go} before)")
    if before.raw_frames is not after.raw_frames:
        told.append(f"Raw frames {after.raw_frames} ({before.raw_frames} before)")
    for rule in RULES:
        was, now = before.value(rule.name), after.value(rule.name)
        if was != now:
            told.append(f"{_sentence(rule, rule.told(now))} ({rule.told(was)} before)")
    if before.bias_under_flats != after.bias_under_flats:
        told.append("A bias under the flats" if after.bias_under_flats else "Dark flats under the flats")
    for name, what, unit, noun in (
        ("dark_temps_c", "Standard darks at", "°C", "temperature"),
        ("dark_exposures_s", "Standard darks of", "s", "exposure"),
    ):
        was_all, now_all = getattr(before, name), getattr(after, name)
        if was_all != now_all:
            words = ", ".join(f"{v:g}".replace("-", "−") for v in now_all)
            told.append(f"{what} {words} {unit}" if now_all else f"{what} no {noun} of their own")
    return told


@dataclass(frozen=True)
class Moved:
    """What a change of rules does to slips: so many that ended with one word would end with another."""

    count: int
    before: str
    after: str

    def __str__(self) -> str:
        would = "slip" if self.count == 1 else "slips"
        ends = _END_ONE if self.count == 1 else _END_MANY
        return f"{self.count} {would} would have ‘{self.after}’ where {ends} ‘{self.before}’ now"


_END_ONE, _END_MANY = "it has", "they have"


def what_moves(before: Mapping[int, str], after: Mapping[int, str]) -> list[Moved]:
    """Slips that would end otherwise, by how; the most first. Keys are sets of lights, values how their slip ends."""
    counted: dict[tuple[str, str], int] = {}
    for key, was in before.items():
        now = after.get(key, was)
        if now != was:
            counted[was, now] = counted.get((was, now), 0) + 1
    return [Moved(n, was, now) for (was, now), n in sorted(counted.items(), key=lambda c: (-c[1], c[0]))]
