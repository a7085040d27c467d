"""What a search for a flat's setting sets out with: from all that is known of the light, before the first shot.

The last setting, if it still says something; else what a measured panel and this filter's own rate predict; else a guess
from the rates of other filters. Everything here is a pure function, so that every place that searches sets out alike.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from grayshelf.core.flats.model import Dimmer, ExposureWindow, FlatTarget, Mode, Pedestal, Prior
from grayshelf.core.flats.panel.response import (
    LightPath,
    PanelResponse,
    ResponsePoint,
    fit_response,
    log_factor,
)
from grayshelf.core.flats.search.dial import Pulse
from grayshelf.core.flats.search.light import pedestal_belief
from grayshelf.core.flats.search.task import Task, at_level, carried_over
from grayshelf.core.flats.settings import RowKey


@dataclass(frozen=True)
class LastSetting:
    """A setting that was found before and still counts."""

    exposure_s: float
    brightness: int | None
    expected_adu: float
    pedestal_adu: float | None
    source: str
    """Name of the light that it was found with; empty where nobody wrote it down."""
    diffusers: tuple[str, ...] = ()


@dataclass(frozen=True)
class Light:
    """The light of a row, and what hangs before it."""

    name: str
    dimmer: Dimmer | None
    pulse: Pulse | None = None
    stack: tuple[str, ...] = ()
    stack_stops: float = 0.0


@dataclass(frozen=True)
class Asked:
    """What is looked for in a row."""

    mode: Mode
    exposure_s: float | None
    """Where the brightness is looked for: the exposure that stays, or that is to be come near; None where nobody says."""
    preferred_s: float
    """And the one that is taken then."""
    brightness: int | None
    """Where the time is looked for: the brightness that stays."""
    agreed_brightness: int | None = None
    """A brightness that the row's first shots led to already, for an exposure that it shares with other filters."""
    begin_s: float | None = None
    """Where nothing else is known: the exposure to begin with."""


@dataclass(frozen=True)
class KnownRates:
    """Rates of the light that were measured, through whichever filter, without diffusers."""

    points: Sequence[ResponsePoint] = ()
    widths_nm: Mapping[str, float | None] = field(default_factory=dict)
    """Widths of the filters, by code."""
    e_per_adu: Mapping[float, float] = field(default_factory=dict)
    """Electrons in an ADU, by gain, where that was measured."""


def search_task(
    key: RowKey,
    asked: Asked,
    light: Light,
    target: FlatTarget,
    window: ExposureWindow,
    pedestal: Pedestal | None,
    last: LastSetting | None,
    known: KnownRates,
) -> Task:
    """What a search is to find for a row, and what it may begin with.

    Parameters
    ----------
    last
        The newest setting of the row, if it still counts.
    known
        Rates in ADU a second above the pedestal.
    """
    dimmer = light.dimmer
    mode: Mode = asked.mode if dimmer is not None else "time"
    brightness = asked.brightness if dimmer is not None else None
    outset = _Outset(_from_last(last, mode, brightness, light, target))
    if dimmer is not None:
        outset = _with_panel(key, asked, mode, light, target, window, pedestal, known, outset.prior)
    return Task(
        target,
        window,
        mode,
        brightness if mode == "time" else None,
        asked.exposure_s,
        dimmer if mode != "time" else None,
        pedestal,
        _agreed_or_fallback(asked, window, brightness, outset),
        outset.response,
        outset.guess_rate,
        light.pulse,
    )


@dataclass(frozen=True)
class _Outset:
    """What is known beforehand: a setting, how the panel goes, ADU a second at the brightness that counts."""

    prior: Prior | None = None
    response: PanelResponse | None = None
    guess_rate: float | None = None


def _with_panel(
    key: RowKey,
    asked: Asked,
    mode: Mode,
    light: Light,
    target: FlatTarget,
    window: ExposureWindow,
    pedestal: Pedestal | None,
    known: KnownRates,
    prior: Prior | None,
) -> _Outset:
    """What a light that can be dimmed tells beyond the last setting: by this filter's own rate, else by others'."""
    assert light.dimmer is not None
    response = fit_response(known.points, light.dimmer)
    if prior is not None and mode != "time":
        wanted = asked.exposure_s if asked.exposure_s is not None else asked.preferred_s
        prior = carried_over(prior, window, mode, wanted, response)
    own = [p for p in known.points if p.group == path_of(key)]
    factor = log_factor(response, own)
    if factor is None:
        return _Outset(prior, response, _guess_here(key, asked, mode, light, known, response))
    # At the very brightness of the rates nothing of the panel's shape is needed.
    at_it = mode == "time" and all(p.brightness == asked.brightness for p in own)
    if prior is None and (response.measured or at_it):
        top = math.exp(factor) / 2.0**light.stack_stops
        prior = predicted(asked, mode, target, window, pedestal, response, top)
    return _Outset(prior, response)


def _guess_here(
    key: RowKey, asked: Asked, mode: Mode, light: Light, known: KnownRates, response: PanelResponse
) -> float | None:
    """ADU a second from other filters, behind what hangs; at the brightness that stays, or at the highest."""
    guess = guessed_rate(key, known, response)
    if guess is None:
        return None
    guess /= 2.0**light.stack_stops
    stays = mode == "time" and asked.brightness is not None
    return guess * math.exp(response.log_output(asked.brightness or 0)) if stays else guess


def _agreed_or_fallback(
    asked: Asked, window: ExposureWindow, brightness: int | None, outset: _Outset
) -> Prior | None:
    """What the filters agreed on counts before all; where nothing is known, where the search before it ended."""
    if asked.agreed_brightness is not None:
        at = asked.exposure_s or window.shortest.exposure_s
        return Prior(at, asked.agreed_brightness, "as the shots so far say")
    if outset.prior is None and outset.guess_rate is None and asked.begin_s is not None:
        return Prior(asked.begin_s, brightness, "as the search before it says")
    return outset.prior


def path_of(key: RowKey) -> LightPath:
    """The way of the light for a row's frames."""
    return LightPath(key.filter_code, key.gain, key.binning)


def _from_last(
    last: LastSetting | None, mode: Mode, brightness: int | None, light: Light, target: FlatTarget
) -> Prior | None:
    """The last setting at the level that is wanted now, where light, stack and brightness are still the same."""
    if last is None or last.diffusers != light.stack or last.source not in ("", light.name):
        return None
    if mode == "time" and last.brightness != brightness:
        return None
    prior = Prior(last.exposure_s, last.brightness)
    return at_level(prior, last.expected_adu, last.pedestal_adu or 0.0, target)


def guessed_rate(key: RowKey, known: KnownRates, response: PanelResponse) -> float | None:
    """ADU a second at the highest brightness, from other filters: a panel's light goes with the width of the filter.

    It goes with the area of the binned pixel too, and against the electrons in an ADU. The most of all filters' is
    taken, since a test shot that is full says less than one that is dim. None where nothing tells.
    """
    best: float | None = None
    for path in {p.group for p in known.points if isinstance(p.group, LightPath)}:
        width, own = known.widths_nm.get(path.filter_code), known.widths_nm.get(key.filter_code)
        factor = log_factor(response, [p for p in known.points if p.group == path])
        # Through another telescope rates say nothing here; only the panel's shape holds.
        if path.telescope or factor is None or not width or not own:
            continue
        ratio = own / width * (key.binning / path.binning) ** 2
        if path.gain != key.gain:
            here, there = known.e_per_adu.get(key.gain), known.e_per_adu.get(path.gain)
            if here is None or there is None:
                continue
            ratio *= there / here
        guess = math.exp(factor) * ratio
        best = guess if best is None else max(best, guess)
    return best


def predicted(
    asked: Asked,
    mode: Mode,
    target: FlatTarget,
    window: ExposureWindow,
    pedestal: Pedestal | None,
    response: PanelResponse,
    top_adu_s: float,
) -> Prior:
    """The setting that a measured panel foretells.

    Parameters
    ----------
    top_adu_s
        The row's rate at the highest brightness, behind what hangs before the light, in ADU a second.
    """
    signal = max(target.level_adu - pedestal_belief(pedestal, ()).adu, 1.0)
    why = "as the panel's measured curve says"
    if mode == "time":
        assert asked.brightness is not None
        rate = top_adu_s * math.exp(response.log_output(asked.brightness))
        return Prior(signal / rate, asked.brightness, why)
    low, high = window.shortest.exposure_s, window.longest.exposure_s
    at = min(max(asked.exposure_s or asked.preferred_s, low), high)
    wanted = round(response.brightness_for(math.log(signal / at / top_adu_s)))
    if mode == "both":
        at = min(max(signal / (top_adu_s * math.exp(response.log_output(wanted))), low), high)
        at = float(f"{at:.3g}")
    return Prior(at, wanted, why)
