"""Which raw frames may go, once a master stands for them, what the house rule wishes, and what is lost by it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from enum import StrEnum

from grayshelf.core.frames.kinds import FrameKind


class RawFrames(StrEnum):
    """What becomes of the raw frames of a master: a house rule."""

    KEPT = "kept as they are"
    PACKED = "packed without loss"
    THROWN_AWAY = "thrown away"


class Master(StrEnum):
    """What stands for raw frames."""

    NONE = "none"
    SAFE = "safe"
    AWAY = "away"
    """Its file is not where it was."""
    FROM_ELSEWHERE = "from elsewhere"
    """Built by another program: which frames went into it is not known."""


@dataclass(frozen=True)
class RawSet:
    """The raw frames of one set, and what stands for them."""

    set_id: int
    kind: FrameKind
    night: date | None
    n_frames: int
    size_bytes: int
    filter_code: str = ""
    n_packed: int = 0
    master: Master = Master.NONE
    left_out: tuple[str, ...] = ()
    """Names of frames that the master was built without."""
    n_not_in_master: int = 0
    """Frames that count and that the master does not know: they came, or were kept, after it was built."""
    rule: RawFrames = RawFrames.KEPT
    rule_days: int = 0
    """So many days after their night the house rule holds."""
    rig_id: int | None = None
    """Whose house rule it is."""

    @property
    def title(self) -> str:
        """What the frames are, in words: 'Flats G of 18 Oct 2026'."""
        kind = self.kind.value
        named = f"{kind[:1].upper()}{kind[1:]}{'' if self.kind is FrameKind.BIAS else 's'}"
        lit = self.kind in (FrameKind.FLAT, FrameKind.LIGHT)
        through = f" {self.filter_code}" if self.filter_code and lit else ""
        return f"{named}{through} of {self.night:%-d %b %Y}" if self.night else f"{named}{through}"


def why_not_thrown_away(raw: RawSet) -> str:
    """Why the frames of a set are not thrown away, in a sentence; empty where they may be."""
    if raw.kind is FrameKind.LIGHT:
        return "Nothing stands for lights: they are never thrown away here."
    if raw.master is Master.NONE:
        return "No master was built of them yet."
    if raw.master is Master.AWAY:
        return "The file of their master is not there."
    if raw.master is Master.FROM_ELSEWHERE:
        return "Their master was built elsewhere: it is not known which frames are in it."
    if raw.n_not_in_master:
        n = raw.n_not_in_master
        came = "frame counts that is" if n == 1 else "frames count that are"
        return f"{n} {came} not in their master: build it anew first."
    return ""


def wished(raw: RawSet, today: date) -> RawFrames:
    """What the house rule wishes of a set's frames today; what is done already is not wished again.

    A rule holds `rule_days` days after the night of the frames; frames without a night are kept.
    """
    if raw.rule is RawFrames.KEPT or raw.night is None:
        return RawFrames.KEPT
    if today < raw.night + timedelta(days=raw.rule_days) or why_not_thrown_away(raw):
        return RawFrames.KEPT
    if raw.rule is RawFrames.PACKED and raw.n_packed == raw.n_frames:
        return RawFrames.KEPT
    return raw.rule


#: So many frames that were left out are named.
_NAMED = 3


def what_is_lost(sets: Sequence[RawSet]) -> list[str]:
    """What can no longer be done once the frames of these sets are thrown away, in sentences."""
    if not sets:
        return []
    masters = "1 master" if len(sets) == 1 else f"{len(sets):,} masters"
    lost = [
        f"{masters} could not be built anew: not by another method, and not without a frame that turns out to be bad."
    ]
    for raw in sets:
        if raw.left_out:
            named = ", ".join(raw.left_out[:_NAMED])
            more = len(raw.left_out) - _NAMED
            others = f" and {more} more" if more > 0 else ""
            were = "was" if len(raw.left_out) == 1 else "were"
            lost.append(
                f"{raw.title}: it could not be rebuilt with {named}{others}, which {were} left out of it."
            )
    flats = [raw for raw in sets if raw.kind is FrameKind.FLAT]
    if flats:
        lost.append(
            "Flats could not be given another pedestal: what was taken off (dark flats or bias) stays taken off."
        )
    under = [raw for raw in sets if raw.kind in (FrameKind.DARK, FrameKind.DARK_FLAT, FrameKind.BIAS)]
    if under:
        lost.append("Single frames could not be looked at again, nor be asked when a hot pixel came.")
    return lost
