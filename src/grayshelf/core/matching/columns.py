"""Many settings as arrays, so that all that is wanted can be held against all that is there at once."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.matching.model import CommonSettings
from grayshelf.core.matching.rank import day_of
from grayshelf.core.matching.rulers import plain_name
from grayshelf.core.pictures.colours import side_of

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]


class Names:
    """Numbers that stand for names: the same name, the same number."""

    def __init__(self) -> None:
        """None is known yet."""
        self._numbers: dict[str, float] = {}

    def number(self, name: str | None) -> float | None:
        """The number of a name; None for a name that is not known."""
        return None if name is None else self._numbers.setdefault(name, float(len(self._numbers)))


class Columns:
    """One value for each of some settings in each array; NaN where it is not known.

    Parameters
    ----------
    names
        Shared by the columns that are held against one another.
    upright
        Whether the arrays stand (n × 1), to be held against others that lie (1 × n).
    """

    def __init__(self, settings: Sequence[CommonSettings], names: Names, *, upright: bool = False) -> None:
        """Take the settings apart."""
        self.count = len(settings)
        shape = (self.count, 1) if upright else (1, self.count)

        def numbers(value: Callable[[CommonSettings], float | None]) -> Floats:
            # None becomes NaN.
            return np.array([value(x) for x in settings], dtype=np.float64).reshape(shape)

        def named(value: Callable[[CommonSettings], str | None]) -> Floats:
            return numbers(lambda x: names.number(value(x)))

        self.camera = named(lambda x: x.camera)
        self.width, self.height = numbers(lambda x: x.width), numbers(lambda x: x.height)
        self.left = numbers(lambda x: x.corner[0] if x.corner else None)
        self.top = numbers(lambda x: x.corner[1] if x.corner else None)
        self.repeat = numbers(lambda x: side_of(x.bayer_pattern))
        # A step of 0 is as good as none.
        self.sample_step = numbers(lambda x: x.sample_step or None)
        self.read_out = {
            "row order": named(lambda x: x.row_order),
            "colour phase": named(lambda x: x.bayer_pattern),
            "read-out mode": named(lambda x: x.read_mode),
        }
        self.telescope = named(lambda x: plain_name(x.telescope))
        self.filter = named(lambda x: plain_name(x.filter_code))
        self.gain, self.offset = numbers(lambda x: x.gain), numbers(lambda x: x.offset)
        self.binning = named(lambda x: f"{x.binning[0]} {x.binning[1]}" if x.binning else None)
        self.exposure_s = numbers(lambda x: x.exposure_s)
        self.sensor_temp_c = numbers(lambda x: x.sensor_temp_c)
        self.temp_range_c = numbers(lambda x: x.temp_range_c)
        self.held: Bools = numbers(lambda x: x.held) == 1.0
        self.focal_length_mm = numbers(lambda x: x.focal_length_mm)
        self.focus = numbers(lambda x: x.focus)
        self.angle_deg = numbers(lambda x: x.angle.deg if x.angle else None)
        self.angle_mechanical = numbers(lambda x: float(x.angle.of == "mechanical") if x.angle else None)
        self.pier_side = named(lambda x: x.angle.pier_side if x.angle else None)
        self.night = numbers(lambda x: x.night.toordinal() if x.night else None)
        self.good_on = numbers(lambda x: (x.good_on or x.night).toordinal() if x.night else None)
        self.day = numbers(day_of)
        self.taken_s = numbers(lambda x: x.taken.timestamp() if x.taken else None)
        self.only_named: dict[str, Bools] = {
            quantity: np.array([quantity in x.from_name for x in settings]).reshape(shape)
            for quantity in frozenset[str]().union(*(x.from_name for x in settings))
        }
