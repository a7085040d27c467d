"""In which order filters are searched, so that a person is asked for the fewest changes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class SearchStop:
    """What a row needs of the rig while it is searched."""

    index: int
    source: str
    stack: tuple[str, ...]
    stack_stops: float
    gain: float
    binning: int
    wheel_position: int
    brightness: int | None = None


def order_search(stops: Sequence[SearchStop], wheel_at: int | None, *, dims_by_hand: bool) -> list[int]:
    """Indices of the rows in order: what a hand must change varies slowest, what the rig turns itself fastest.

    Sources first, then what hangs before them (from nothing to the densest, so that each cloth goes on once), then,
    where a hand sets the panel, its brightness, then gain and binning, then the wheel from where it stands.
    """

    def rank(stop: SearchStop) -> tuple[object, ...]:
        by_hand = -1 if not dims_by_hand or stop.brightness is None else stop.brightness
        away = abs(stop.wheel_position - (wheel_at or 0))
        return (
            stop.source,
            stop.stack_stops,
            stop.stack,
            by_hand,
            stop.gain,
            stop.binning,
            away,
            stop.wheel_position,
            stop.index,
        )

    return [stop.index for stop in sorted(stops, key=rank)]
