"""On which surface dust lies: by the width of its shadow, by the filters whose flats show it, by whether it turns."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from grayshelf.core.checks.dust import Shadow
from grayshelf.core.flats.panel.diffusers import listed

#: A speck is taken to be between nothing and this wide (common practice: dust that is seen is up to a tenth of a
#: millimetre).
SPECK_MM = 0.1
#: A shadow is the same on two flats where its middle lies within this share of its width, or so many pixels, and its
#: width differs by no more than so much.
SAME_PLACE, SAME_PLACE_PX, SAME_WIDTH = 0.3, 6.0, 0.35
#: On the sensor's own window lies what is nearer than this; cameras differ, so it is said as likely (common practice).
WINDOW_MM = 8.0
#: A camera that was turned by less than this tells nothing.
TURNED_DEG = 5.0


class Surface(StrEnum):
    """Where a speck lies."""

    FILTER = "on the filter"
    WINDOW = "on the sensor’s window"
    CAMERA_SIDE = "between filter and sensor"
    TELESCOPE_SIDE = "on the telescope’s side"
    NOT_FILTER = "not on the filter"
    UNKNOWN = "not known"


@dataclass(frozen=True)
class Distance:
    """How far in front of the sensor a speck lies, in mm of air."""

    least_mm: float
    most_mm: float


def distance_of(diameter_px: float, pixel_um: float, focal_ratio: float) -> Distance:
    """How far in front of the sensor a speck lies: ``z = N · (d − size)``, for specks of no size to `SPECK_MM`.

    The cone of light behind a telescope of focal ratio N is ``z / N`` wide at the distance z (similar triangles).

    Parameters
    ----------
    diameter_px
        Of its shadow, in pixels of the frame.
    pixel_um
        Of those pixels, in µm.
    """
    d_mm = diameter_px * pixel_um / 1000.0
    return Distance(focal_ratio * max(d_mm - SPECK_MM, 0.0), focal_ratio * d_mm)


@dataclass(frozen=True)
class OtherFlat:
    """Another flat of the same train, with its shadows."""

    filter_code: str | None
    turned_deg: float | None
    """How far the camera was turned since this one; None where that is not known."""
    shadows: Sequence[Shadow]


def same_shadow(shadow: Shadow, others: Sequence[Shadow]) -> Shadow | None:
    """The one of some shadows that is this one; None where none is."""
    near = max(SAME_PLACE * shadow.diameter, SAME_PLACE_PX)
    alike = [
        (math.hypot(o.x - shadow.x, o.y - shadow.y), o)
        for o in others
        if abs(o.diameter - shadow.diameter) <= SAME_WIDTH * max(shadow.diameter, o.diameter)
    ]
    found = min(alike, key=lambda one: one[0], default=None)
    return found[1] if found is not None and found[0] <= near else None


@dataclass(frozen=True)
class Where:
    """On which surface a speck lies, and why that is thought."""

    surface: Surface
    why: str


def where_of(
    shadow: Shadow,
    size: tuple[int, int],
    own_filter: str | None,
    others: Sequence[OtherFlat],
    distance: Distance | None,
) -> Where:
    """On which surface a speck lies.

    Parameters
    ----------
    size
        Width and height of the flat, in pixels.
    others
        Flats of the same train, of the same time.
    """
    shown, not_shown = _by_filters(shadow, own_filter, others)
    if not_shown and not shown:
        return Where(Surface.FILTER, f"the flats of {listed(not_shown)} do not show it")
    # What one flat missed is no proof of anything, as long as others show it.
    seen = f"the flats of {listed(shown)} show it as well" if shown else ""
    turned = _by_turning(shadow, size, others)
    near = distance is not None and distance.most_mm <= WINDOW_MM
    if turned is not None and not (near and turned.surface is Surface.CAMERA_SIDE):
        return Where(turned.surface, _both(seen, turned.why))
    if distance is None:
        return Where(Surface.UNKNOWN, seen or "neither other filters’ flats nor its distance tell")
    if near:
        stayed = turned.why if turned is not None else "its shadow is narrow"
        return Where(Surface.WINDOW, _both(seen, stayed))
    if shown:
        return Where(Surface.NOT_FILTER, seen)
    return Where(Surface.UNKNOWN, "only its distance tells")


def _by_filters(
    shadow: Shadow, own_filter: str | None, others: Sequence[OtherFlat]
) -> tuple[list[str], list[str]]:
    """The other filters whose flats at the same angle show it, and those whose flats do not."""
    straight = [
        o
        for o in others
        if o.turned_deg is not None and abs(o.turned_deg) < TURNED_DEG and o.filter_code != own_filter
    ]
    shown = {o.filter_code or "?" for o in straight if same_shadow(shadow, o.shadows)}
    return sorted(shown), sorted({o.filter_code or "?" for o in straight} - shown)


def _by_turning(shadow: Shadow, size: tuple[int, int], others: Sequence[OtherFlat]) -> Where | None:
    """Whether it stayed where it was while the camera was turned, or turned about the middle."""
    for other in others:
        turned = other.turned_deg
        if turned is None or abs(turned) < 2 * TURNED_DEG:
            continue
        if same_shadow(shadow, other.shadows):
            return Where(
                Surface.CAMERA_SIDE, f"it stayed where it is while the camera turned by {abs(turned):.0f}°"
            )
        if any(same_shadow(s, other.shadows) for s in _turned(shadow, size, turned)):
            return Where(Surface.TELESCOPE_SIDE, f"it turned as the camera did, by {abs(turned):.0f}°")
    return None


def _turned(shadow: Shadow, size: tuple[int, int], by_deg: float) -> list[Shadow]:
    """Where it would be had it turned about the middle: either way, since angles are counted in both."""
    dx, dy = shadow.x - size[0] / 2, shadow.y - size[1] / 2
    found = []
    for turn in (math.radians(by_deg), -math.radians(by_deg)):
        x = size[0] / 2 + dx * math.cos(turn) - dy * math.sin(turn)
        y = size[1] / 2 + dx * math.sin(turn) + dy * math.cos(turn)
        found.append(Shadow(x, y, shadow.diameter, shadow.depth))
    return found


def _both(first: str, second: str) -> str:
    return f"{first}, and {second}" if first else second
