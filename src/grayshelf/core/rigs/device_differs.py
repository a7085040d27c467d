"""What a device says of itself against what is known of its part: lights that were taken otherwise fit no frames of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

#: Pixel sizes are told to so many µm.
PIXEL_WITHIN_UM = 0.05


@dataclass(frozen=True)
class CameraKnown:
    """A camera by its lights' headers and its sheet; None is not known."""

    size: tuple[int, int] | None = None
    """Width and height, unbinned."""
    pixel_um: float | None = None
    bayer_pattern: str | None = None
    has_lights: bool = False
    cooled: bool | None = None


def camera_differs(told: CameraKnown, known: CameraKnown) -> list[str]:
    """Sentences on what a camera says of itself (pixels, µm) and its lights, or its sheet, say otherwise."""
    found = []
    if told.size and known.size and told.size != known.size:
        found.append(
            f"It says {told.size[0]:,} × {told.size[1]:,} pixels; its lights have {known.size[0]:,} × {known.size[1]:,}."
        )
    both = told.pixel_um and known.pixel_um
    if both and abs((told.pixel_um or 0.0) - (known.pixel_um or 0.0)) > PIXEL_WITHIN_UM:
        found.append(f"It says pixels of {told.pixel_um:g} µm; its lights say {known.pixel_um:g} µm.")
    if known.has_lights and told.bayer_pattern != known.bayer_pattern:
        found.append(
            f"It says {told.bayer_pattern or 'no colour pattern'}; its lights have {known.bayer_pattern or 'none'}."
        )
    if known.cooled is not None and told.cooled != known.cooled:
        found.append(
            "It can be given a temperature; its sheet says that it has no cooler."
            if told.cooled
            else "It cannot be given a temperature; its sheet says that it has a cooler."
        )
    return found


def wheel_differs(in_wheel: Sequence[str], known: Sequence[str]) -> list[str]:
    """Filters of the rig’s sheet that the wheel does not name; both by their codes, each of any shape (n,)."""
    absent = [code for code in known if code not in in_wheel]
    if not absent:
        return []
    named = ", ".join(in_wheel) or "nothing"
    return [
        f"It names {named}; {', '.join(absent)} of the rig’s filters {'is' if len(absent) == 1 else 'are'} not in it."
    ]


def light_differs(highest: int | None, known: tuple[int, int] | None) -> list[str]:
    """A panel whose sheet tells another range: ``lowest … highest``, in steps of its brightness."""
    if highest is None or known is None or known[1] == highest:
        return []
    return [f"It goes to {highest:,}; the light’s sheet says {known[1]:,}."]
