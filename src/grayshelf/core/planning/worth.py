"""What darks are worth to the lights that would use them, in lights (see `fill`)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.costs import few_darks_percent
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.model import CommonSettings, Holding
from grayshelf.core.planning.fill import saved_worth, served_worth


@dataclass(frozen=True)
class WouldUse:
    """Lights that would use a dark."""

    lights: int
    want: CommonSettings
    terms: Terms
    there: Holding | None = None
    """What they have now, with care; None: nothing fits."""

    @cached_property
    def added_now(self) -> float:
        """What the darks that they have now add to their noise, in percent; 0 where they have none."""
        return 0.0 if self.there is None else self._added_by(self.there)

    def added(self, frames: int) -> float:
        """What so many new darks add to it, in percent; worked out once for each number of frames, since pages ask for the
        same ones each time."""
        if frames not in self._known:
            self._known[frames] = self._added_by(Holding("", FrameKind.DARK, self.want, frames))
        return self._known[frames]

    @cached_property
    def _known(self) -> dict[int, float]:
        return {}

    def _added_by(self, dark: Holding) -> float:
        lights = replace(self.terms.lights, n_lights=max(self.lights, 1))
        positions = self.terms.tolerances.dither_positions
        return few_darks_percent(self.want, dark, self.terms.traits, lights, positions)


def added_percent(frames: int, users: Sequence[WouldUse]) -> float | None:
    """What so many darks add to the noise of the stacked lights, in percent; the mean over all of them."""
    total = sum(u.lights for u in users)
    if not total:
        return None
    return sum(u.lights * u.added(frames) for u in users) / total


def dark_worth(frames: int, users: Sequence[WouldUse]) -> float:
    """What so many darks are worth, in lights."""
    worth = 0.0
    for user in users:
        added = user.added(frames)
        if user.there is None:
            worth += served_worth(user.lights, added)
        else:
            worth += saved_worth(user.lights, added, user.added_now, old=True)
    return worth


def saved_percent(frames: int, users: Sequence[WouldUse]) -> float | None:
    """By how much less than now so many darks add to the noise of their lights, in percent; None where all have nothing."""
    having = [u for u in users if u.there is not None]
    total = sum(u.lights for u in having)
    if not total:
        return None
    return sum(u.lights * (u.added_now - u.added(frames)) for u in having) / total
