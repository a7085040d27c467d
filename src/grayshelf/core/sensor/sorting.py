"""Frames that somebody hands in to be measured: which belong together, and what to say of the others."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

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


def sort_out(sets: Sequence[HandedIn], camera: str, *, by_offset: bool = True) -> Sorted:
    """Keep the sets of one sensor read out one way; say why the others stay out.

    Gains may differ: each is measured on its own. Temperatures (°C) may, within `TEMPERATURE_WITHIN_C` of most frames'.

    Parameters
    ----------
    by_offset
        Whether offsets are compared. Else frames need tell no gain, or no offset, where none of them does: a camera with an ISO
        dial has no offset to set, an older one neither.
    """
    sieve = _Sieve(list(sets))
    others: dict[str | None, list[HandedIn]] = {}
    for item in sets:
        if item.camera != camera:
            others.setdefault(item.camera, []).append(item)
    for name, items in others.items():
        sieve.leave_out(items, f"they are of {name or 'a camera that is not named'}, another sensor")
    processed = [i for i in sieve.rest if not i.raw]
    sieve.leave_out(processed, "they hold processed values, not the camera's 16-bit levels")
    for what in ("gain", "offset"):
        untold = [i for i in sieve.rest if getattr(i, what) is None]
        if by_offset or len(untold) < len(sieve.rest):
            sieve.leave_out(untold, f"their {what} is not known")
    sieve.keep_most("size", lambda i: (i.width, i.height))
    sieve.keep_most("binning", lambda i: i.binning or 1)
    sieve.keep_most("step of the levels (another driver)", lambda i: i.sample_step)
    sieve.keep_most("read-out mode", lambda i: i.read_mode)
    sieve.keep_as_warm()
    return Sorted(tuple(i.key for i in sieve.rest), tuple(sieve.left))


@dataclass
class _Sieve:
    """What stays, and what was left out and why, in the order in which it was found."""

    rest: list[HandedIn]
    left: list[str] = field(default_factory=list)

    def leave_out(self, items: Sequence[HandedIn], why: str) -> None:
        """Leave some out; nothing is said where there are none."""
        if not items:
            return
        count = sum(i.n_frames for i in items)
        self.left.append(f"{count} frame{'s' if count != 1 else ''} left out: {why}.")
        self.rest = [i for i in self.rest if i not in items]

    def keep_most(self, what: str, of: Callable[[HandedIn], object]) -> None:
        """Keep those that have what most frames have; what is not known does not tell them apart."""
        counts: Counter[object] = Counter()
        for item in self.rest:
            if of(item) is not None:
                counts[of(item)] += item.n_frames
        if len(counts) > 1:
            most = counts.most_common(1)[0][0]
            others = [i for i in self.rest if of(i) not in (most, None)]
            self.leave_out(others, f"another {what} than most")

    def keep_as_warm(self) -> None:
        """Keep those about as warm as the middle frame."""
        temps = sorted(t for i in self.rest if (t := i.temp_c) is not None for _ in range(i.n_frames))
        if not temps:
            return
        middle = temps[len(temps) // 2]
        apart = [
            i for i in self.rest if i.temp_c is not None and abs(i.temp_c - middle) > TEMPERATURE_WITHIN_C
        ]
        at = ", ".join(sorted({f"{i.temp_c:.0f} °C" for i in apart}))
        self.leave_out(apart, f"taken at {at}, the others at {middle:.0f} °C")
