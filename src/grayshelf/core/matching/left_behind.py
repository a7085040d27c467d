"""What of the shelf lights of another gain or offset could not use: all that is taken with the cap on must have both of theirs."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.model import Holding

#: What must have the gain and offset of the lights or flats, in the order in which it is told.
CAPPED = (FrameKind.DARK, FrameKind.DARK_FLAT, FrameKind.BIAS)


@dataclass(frozen=True)
class LeftBehind:
    """What would be left without lights."""

    counts: Mapping[FrameKind, int]
    """Of masters, and sets not combined, by kind; only what there is."""
    at: tuple[float, ...]
    """The gains or offsets that they have, rising."""
    others: int
    """How many there are that could be used."""


class CappedShelf:
    """Masters and sets of a camera that were taken with the cap on, counted by their gain and offset."""

    def __init__(self, holdings: Iterable[Holding]) -> None:
        """Count them. What does not tell its gain or its offset is left out: it is in doubt wherever it is used."""
        self._counts: dict[tuple[float, float | None], Counter[FrameKind]] = {}
        for one in holdings:
            gain, offset = one.settings.gain, one.settings.offset
            if one.kind in CAPPED and gain is not None:
                self._counts.setdefault((gain, offset), Counter())[one.kind] += 1

    def without_gain(self, gain: float) -> LeftBehind:
        """What lights at a gain could not use: all of other gains."""
        there = {pair[0]: Counter[FrameKind]() for pair in self._counts}
        for pair, counts in self._counts.items():
            there[pair[0]] += counts
        return _split(there, gain)

    def without_offset(self, gain: float, offset: float) -> LeftBehind:
        """What lights at a gain and an offset could not use of that gain: all of other offsets."""
        there = {o: counts for (g, o), counts in self._counts.items() if g == gain and o is not None}
        return _split(there, offset)


def _split(there: Mapping[float, Counter[FrameKind]], value: float) -> LeftBehind:
    other = {v: counts for v, counts in there.items() if v != value}
    found = sum(other.values(), Counter[FrameKind]())
    counts = {kind: found[kind] for kind in CAPPED if found[kind]}
    return LeftBehind(counts, tuple(sorted(other)), sum(there.get(value, {}).values()))
