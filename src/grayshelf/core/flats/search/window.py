"""Which exposures are permitted: what the person allows, what the camera can, and what the source asks for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from grayshelf.core.flats.model import Bound, ExposureWindow
from grayshelf.core.flats.search.dial import Pulse
from grayshelf.core.flats.timed_light import TimedLight

Shutter = Literal["electronic", "slow", "curtain"]

#: Slow shutters shade the frame under about this (common practice).
SLOW_SHUTTER_S = 3.0
#: A curtain is as wide as the frame from about here (common practice: 1/60 s is normal).
CURTAIN_S = 1.0 / 60.0
#: Shorter than this many pulses, no exposure near any wished one is free of bands.
FEWEST_PULSES = 25.0


@dataclass(frozen=True)
class CameraTraits:
    """What of a camera bears on its exposures."""

    shortest_s: float = 0.001
    repeatable_from_s: float = 0.0
    shutter: Shutter = "electronic"


def permitted(
    shortest: Bound,
    longest: Bound,
    camera: CameraTraits,
    pulse: Pulse | None = None,
    timed: TimedLight | None = None,
) -> ExposureWindow:
    """The window of exposures, seconds, with the highest of all lower bounds and its reason.

    Lower bounds are the person's, the camera's shortest and the shortest that it repeats, that of its shutter, and
    `FEWEST_PULSES` of a pulsed light. With a light that is lit within the exposure they are of the time of light: its
    own shortest takes the place of the shutter's, which moves in the dark.
    """
    if timed is not None:
        camera = CameraTraits(max(camera.shortest_s, camera.repeatable_from_s) - timed.dark_s)
    lower = [shortest, Bound(camera.shortest_s, "the camera's shortest")]
    if timed is not None:
        lower.append(Bound(timed.shortest_s, "the light is not lit for less"))
    if camera.repeatable_from_s > 0:
        lower.append(Bound(camera.repeatable_from_s, "the camera does not repeat below it"))
    if camera.shutter == "slow":
        lower.append(Bound(SLOW_SHUTTER_S, "the slow shutter shades shorter ones"))
    if camera.shutter == "curtain":
        lower.append(Bound(CURTAIN_S, "the curtain is slower than that"))
    if pulse is not None:
        lower.append(Bound(FEWEST_PULSES / pulse.hz, f"the source pulses at {pulse.hz:g} Hz"))
    low = max(lower, key=lambda b: b.exposure_s)
    high = longest if longest.exposure_s > low.exposure_s else Bound(low.exposure_s, low.reason)
    shutter = {"electronic": 0.0, "slow": SLOW_SHUTTER_S, "curtain": CURTAIN_S}[camera.shutter]
    least = 0.02 if timed is None else timed.shortest_s
    probe = max(least, camera.shortest_s, camera.repeatable_from_s, shutter)
    return ExposureWindow(low, high, min(probe, low.exposure_s))
