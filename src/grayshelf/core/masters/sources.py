"""Frames as they are combined: things that hand out some of their rows at a time."""

from __future__ import annotations

from contextlib import AbstractContextManager
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


class RawReader(Protocol):
    """The rows of a frame as FITS keeps unsigned numbers of 16 bits: high byte first, 32,768 less."""

    def read(self, first: int, into: NDArray[np.uint16]) -> None:
        """Fill an array, shape (rows, width), with the rows from `first` on."""
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

    def raw_rows(self) -> AbstractContextManager[RawReader]:
        """Its file held open, to read rows from."""
        ...
