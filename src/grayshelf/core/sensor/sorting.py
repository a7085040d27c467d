"""Frames that somebody hands in to be measured: which belong together, and what to say of the others."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

#: Frames of a measurement lie within this of their middle temperature.
TEMPERATURE_WITHIN_C = 3.0


@dataclass(frozen=True)
class HandedIn:
    """A set of frames as it comes in."""

    key: int
    n_frames: int
    camera: str | None
    width: int
    height: int
    gain: float | None
    offset: float | None
    binning: int | None
    sample_step: int | None
    temp_c: float | None
    read_mode: str | None = None
    raw: bool = True
    """Whether they hold the camera's own 16-bit levels."""


@dataclass(frozen=True)
class Sorted:
    """What can be measured together, and what was left out and why."""

    kept: tuple[int, ...]
    left_out: tuple[str, ...]


def sort_out(sets: Sequence[HandedIn], camera: str) -> Sorted:
    """Keep the sets of one sensor read out one way; say why the others stay out.

    Gains may differ: each is measured on its own.
    """
    left: list[str] = []

    def told(items: Sequence[HandedIn], why: str) -> None:
        count = sum(i.n_frames for i in items)
        left.append(f"{count} frame{'s' if count != 1 else ''} left out: {why}.")

    rest = list(sets)
    for others in _split(rest, lambda i: i.camera == camera):
        told(others, f"they are of {others[0].camera or 'a camera that is not named'}, another sensor")
    rest = [i for i in rest if i.camera == camera]
    processed = [i for i in rest if not i.raw]
    if processed:
        told(processed, "they hold processed values, not the camera's 16-bit levels")
    rest = [i for i in rest if i.raw]
    unknown = [i for i in rest if i.gain is None or i.offset is None]
    if unknown:
        told(unknown, "their gain or offset is not known")
    rest = [i for i in rest if i not in unknown]
    for what, of in (
        ("size", lambda i: (i.width, i.height)),
        ("binning", lambda i: i.binning or 1),
        ("step of the levels (another driver)", lambda i: i.sample_step),
        ("read-out mode", lambda i: i.read_mode),
    ):
        counts: Counter[object] = Counter()
        for item in rest:
            # What is not known (the step of a packed file) does not tell them apart.
            if of(item) is not None:
                counts[of(item)] += item.n_frames
        if len(counts) > 1:
            most = counts.most_common(1)[0][0]
            others = [i for i in rest if of(i) not in (most, None)]
            told(others, f"another {what} than most")
            rest = [i for i in rest if i not in others]
    temps = sorted(t for i in rest if (t := i.temp_c) is not None for _ in range(i.n_frames))
    if temps:
        middle = temps[len(temps) // 2]
        apart = [i for i in rest if i.temp_c is not None and abs(i.temp_c - middle) > TEMPERATURE_WITHIN_C]
        if apart:
            told(
                apart,
                f"taken at {', '.join(sorted({f'{i.temp_c:.0f} °C' for i in apart}))}, the others at {middle:.0f} °C",
            )
            rest = [i for i in rest if i not in apart]
    return Sorted(tuple(i.key for i in rest), tuple(left))


def _split(items: Sequence[HandedIn], keep: object) -> list[list[HandedIn]]:
    """What is not kept, by camera."""
    assert callable(keep)
    groups: dict[str | None, list[HandedIn]] = {}
    for item in items:
        if not keep(item):
            groups.setdefault(item.camera, []).append(item)
    return list(groups.values())
