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


def same_train(one: CommonSettings, other: CommonSettings, tolerances: Tolerances) -> bool:
    """Whether two flats saw the same telescope and were read out alike. What neither tells is taken to be the same."""
    return not rulers.other_stop(one, other) and all(
        _same(r)
        for r in (
            *_read_out(one, other),
            rulers.same_name("telescope", one.telescope, other.telescope),
            rulers.focal_length(one, other, tolerances.focal_length_percent),
        )
    )


def same_settings(kind: FrameKind, old: CommonSettings, new: CommonSettings, tolerances: Tolerances) -> bool:
    """Whether two masters of a camera can be held against each other. What neither tells is taken to be the same.

    Parameters
    ----------
    tolerances
        How near is near enough; of darks the warmth may differ by `WARMTH_C`.
    """
    if kind is FrameKind.FLAT:
        # Gain and exposure do not change how the light falls.
        asked = [
            rulers.same_name("filter", old.filter_code, new.filter_code),
            rulers.angle(old, new, tolerances.flat_angle_deg),
        ]
        return same_train(old, new, tolerances) and all(_same(r) for r in asked)
    asked = [rulers.exact("gain", old.gain, new.gain), rulers.exact("offset", old.offset, new.offset)]
    if kind is not FrameKind.BIAS:
        asked.append(rulers.exposure(old, new, tolerances.dark_exposure_percent))
    if kind is FrameKind.DARK:
        asked.append(rulers.temperature(old, new, WARMTH_C))
    return all(_same(r) for r in (*_read_out(old, new), *asked))


def _read_out(one: CommonSettings, other: CommonSettings) -> list[Ruler]:
    return [
        rulers.exact("width", one.width, other.width),
        rulers.exact("height", one.height, other.height),
        rulers.exact("binning", one.binning, other.binning),
        rulers.exact("read-out mode", one.read_mode, other.read_mode),
    ]


def _same(ruler: Ruler) -> bool:
    return ruler.inside or (ruler.wanted is None and ruler.measured is None)
