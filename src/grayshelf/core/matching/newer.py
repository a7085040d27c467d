"""What a master can be held against: something newer of its settings."""

from __future__ import annotations

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching import rulers
from grayshelf.core.matching.model import CommonSettings, Ruler, Tolerances

#: Darks are held against one another within so many °C: how much warmer one was is taken out by their hot pixels.
WARMTH_C = 3.0


def is_newer(old: CommonSettings, new: CommonSettings) -> bool:
    """Whether the second was taken after the first."""
    if old.taken is not None and new.taken is not None:
        return new.taken > old.taken
    return old.night is not None and new.night is not None and new.night > old.night


def same_settings(kind: FrameKind, old: CommonSettings, new: CommonSettings, tolerances: Tolerances) -> bool:
    """Whether two masters of a camera can be held against each other. What neither tells is taken to be the same.

    Parameters
    ----------
    tolerances
        How near is near enough; of darks the warmth may differ by `WARMTH_C`.
    """
    read_out = [
        rulers.exact("width", old.width, new.width),
        rulers.exact("height", old.height, new.height),
        rulers.exact("binning", old.binning, new.binning),
        rulers.exact("read-out mode", old.read_mode, new.read_mode),
    ]
    if kind is FrameKind.FLAT:
        # Gain and exposure do not change how the light falls.
        train = [
            rulers.same_name("filter", old.filter_code, new.filter_code),
            rulers.same_name("telescope", old.telescope, new.telescope),
            rulers.focal_length(old, new, tolerances.focal_length_percent),
            rulers.angle(old, new, tolerances.flat_angle_deg),
        ]
        return all(_same(r) for r in (*read_out, *train))
    capped = [rulers.exact("gain", old.gain, new.gain), rulers.exact("offset", old.offset, new.offset)]
    if kind is not FrameKind.BIAS:
        capped.append(rulers.exposure(old, new, tolerances.dark_exposure_percent))
    if kind is FrameKind.DARK:
        capped.append(rulers.temperature(old, new, WARMTH_C))
    return all(_same(r) for r in (*read_out, *capped))


def _same(ruler: Ruler) -> bool:
    return ruler.inside or (ruler.wanted is None and ruler.measured is None)
