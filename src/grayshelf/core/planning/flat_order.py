"""In which order filters are searched, so that a person is asked for the fewest changes."""

from __future__ import annotations

import math
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
    filter_code: str = ""
    width_nm: float | None = None


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


def order_response(stops: Sequence[SearchStop]) -> list[int]:
    """Indices of the rows that a panel is measured with, the one with the ladder of brightness values first.

    One row of each filter is enough. The ladder goes through the narrowest, where the panel's whole range can be read;
    among equals through that of the highest gain. After it, what hangs before the light goes on once.
    """
    once: dict[str, SearchStop] = {}
    for stop in stops:
        once.setdefault(stop.filter_code, stop)

    def narrow(stop: SearchStop) -> tuple[float, float, int]:
        return stop.width_nm or math.inf, -stop.gain, stop.index

    main = min(once.values(), key=narrow)
    others = sorted((s for s in once.values() if s is not main), key=lambda s: (s.stack_stops, s.index))
    return [main.index, *(s.index for s in others)]
