"""One exposure for several filters, by their brightness: one set of dark flats then serves them all."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from dataclasses import dataclass

from grayshelf.core.flats.model import Dimmer, ExposureWindow, FlatTarget
from grayshelf.core.flats.search.dial import Pulse, dial
from grayshelf.core.flats.search.light import LightModel

#: A filter is served where it comes within this share of its tolerance; one that is looked for, a hair within that.
SERVED, SOUGHT = 0.8, 0.79
#: An exposure is taken where every filter comes within this share of its tolerance …
NEAR_ENOUGH = 0.35
#: … the nearest such at these factors from the wished one.
NEIGHBOURS = (1.06, 1.12, 1.18, 1.25, 1.33, 1.42)


@dataclass(frozen=True)
class SharedRow:
    """A filter that would share the exposure: what is wanted of it and what its light is."""

    key: Hashable
    target: FlatTarget
    window: ExposureWindow
    light: LightModel


@dataclass(frozen=True)
class SharedExposure:
    """The exposure, the brightness for each filter, and which filters it cannot serve."""

    exposure_s: float
    brightness: dict[Hashable, int]
    left_out: tuple[Hashable, ...]


def times_for(row: SharedRow, dimmer: Dimmer, share: float = 0.0) -> tuple[float, float]:
    """The shortest and the longest exposure, seconds, at which some brightness brings a filter to its target.

    Parameters
    ----------
    share
        How far from the target the level may stay, as a share of the tolerance.
    """
    slack = share * row.target.tolerance_adu
    shortest = row.light.exposure_for(row.target.level_adu - slack, dimmer.highest)
    longest = row.light.exposure_for(row.target.level_adu + slack, dimmer.lowest)
    low, high = row.window.shortest.exposure_s, row.window.longest.exposure_s
    return max(shortest, low), min(longest, high)


def share_exposure(
    rows: Sequence[SharedRow], dimmer: Dimmer, preferred_s: float, pulse: Pulse | None = None
) -> SharedExposure | None:
    """The exposure, seconds, that serves the most filters; of those one that puts most right at their target, then the
    nearest to the preferred one.

    None where it serves fewer than two.

    Parameters
    ----------
    preferred_s
        The exposure to come near.
    pulse
        Of the light, where it is pulsed: the exposure then bands as little as it can.
    """
    wide = {row.key: times_for(row, dimmer, SOUGHT) for row in rows}
    exact = {row.key: times_for(row, dimmer) for row in rows}

    def holds(span: tuple[float, float], exposure_s: float) -> bool:
        return span[0] * (1 - 1e-6) <= exposure_s <= span[1] * (1 + 1e-6)

    def worth(exposure_s: float) -> tuple[int, int, float]:
        served, right = (sum(holds(s, exposure_s) for s in spans.values()) for spans in (wide, exact))
        return served, right, -max(exposure_s / preferred_s, preferred_s / exposure_s)

    ends = {t for spans in (wide, exact) for span in spans.values() for t in span}
    best = max(sorted(ends | {preferred_s}), key=worth)
    sharing = [r for r in rows if holds(wide[r.key], best)]
    if len(sharing) < 2:
        return None
    low, high = max(wide[r.key][0] for r in sharing), min(wide[r.key][1] for r in sharing)
    exposure = _steadiest(sharing, dimmer, (best, low, high), pulse)
    brightness: dict[Hashable, int] = {}
    left: list[Hashable] = []
    for row in rows:
        nearest, off = _nearest(row, dimmer, exposure)
        if off <= SERVED:
            brightness[row.key] = nearest
        else:
            left.append(row.key)
    return SharedExposure(exposure, brightness, tuple(left)) if len(brightness) > 1 else None


def _nearest(row: SharedRow, dimmer: Dimmer, exposure_s: float) -> tuple[int, float]:
    """The whole number of brightness that comes nearest at an exposure, and how far off it is, in tolerances."""
    exact = row.light.brightness_for(row.target.level_adu, exposure_s)
    around = {int(exact), int(exact) + 1} & set(range(dimmer.lowest, dimmer.highest + 1)) or {dimmer.lowest}
    off, nearest = min((abs(row.light.level(exposure_s, b) - row.target.level_adu), b) for b in around)
    return nearest, off / row.target.tolerance_adu


def _steadiest(
    rows: Sequence[SharedRow], dimmer: Dimmer, span: tuple[float, float, float], pulse: Pulse | None
) -> float:
    """The plain exposure next to the wished one at which every filter comes near its target.

    Where a panel is dim its steps are coarse: a little off the wished exposure they may fall better for all.

    Parameters
    ----------
    span
        The wished exposure, and between which ones it may lie.
    """
    wished, low, high = span

    def worst(exposure_s: float) -> float:
        return max((_nearest(row, dimmer, exposure_s)[1] for row in rows), default=0.0)

    tried = [_dialled(wished, low, high, pulse)]
    for by in NEIGHBOURS:
        tried += [_dialled(t, low, high, pulse) for t in (wished * by, wished / by) if low <= t <= high]
    return next((t for t in tried if worst(t) <= NEAR_ENOUGH), min(tried, key=worst))


def _dialled(exposure_s: float, low_s: float, high_s: float, pulse: Pulse | None) -> float:
    """The plainest number near an exposure that lies between two others."""
    middle = (low_s * high_s) ** 0.5
    for near, within in ((exposure_s, 0.05), (middle, 0.05), (middle, 0.02), (middle, 0.005)):
        number = dial(near, within, pulse)
        if low_s * 0.999 <= number <= high_s * 1.001:
            return number
    return float(f"{middle:.4g}")


def seconds_saved(
    n_rows: int, known_s: Sequence[float], shared_s: float, n_dark_flats: int, download_s: float
) -> float:
    """What one set of dark flats saves over one for each exposure, in seconds:
    ``Σ n·(tᵢ + download) − n·(t_shared + download)``, never below 0.

    Parameters
    ----------
    n_rows
        Filters that share the exposure.
    known_s
        The exposures that some of them had on their own; one that is not known is reckoned like the shared one.
    """
    apart = [*set(known_s), *([shared_s] * (n_rows - len(known_s)))]
    return max(
        sum(n_dark_flats * (t + download_s) for t in apart) - n_dark_flats * (shared_s + download_s), 0.0
    )
