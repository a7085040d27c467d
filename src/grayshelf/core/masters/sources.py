"""Frames as they are combined: things that hand out some of their rows at a time."""

from __future__ import annotations

from typing import Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float32]


class RowSource(Protocol):
    """A frame that hands out some of its rows at a time."""

    name: str
    width: int
    height: int

    def rows(self, first: int, last: int) -> Floats:
        """Rows first … last−1 as float32, shape (last − first, width)."""
        ...


@runtime_checkable
class KeptUnsigned(Protocol):
    """A frame that can hand out its rows as FITS keeps unsigned numbers of 16 bits, without making them numbers first."""

    name: str
    width: int
    height: int

    @property
    def unsigned_16(self) -> bool:
        """Whether it is kept so."""
        ...

    def read_raw(self, first: int, last: int, into: NDArray[np.int16]) -> None:
        """Read rows first … last−1 into an array of shape (last − first, width): high byte first, 32,768 less."""
        ...
