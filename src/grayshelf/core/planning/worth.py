"""What darks are worth to the lights that would use them, in lights (see `fill`)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

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


def added_percent(frames: int, users: Sequence[WouldUse]) -> float | None:
    """What so many darks add to the noise of the stacked lights, in percent; the mean over all of them."""
    total = sum(u.lights for u in users)
    if not total:
        return None
    return sum(u.lights * _added(u, frames) for u in users) / total


def dark_worth(frames: int, users: Sequence[WouldUse]) -> float:
    """What so many darks are worth, in lights."""
    worth = 0.0
    for user in users:
        added = _added(user, frames)
        if user.there is None:
            worth += served_worth(user.lights, added)
        else:
            before = _added_by(user, user.there)
            worth += saved_worth(user.lights, added, before, old=True)
    return worth


def saved_percent(frames: int, users: Sequence[WouldUse]) -> float | None:
    """By how much less than now so many darks add to the noise of their lights, in percent; None where all have nothing."""
    having = [u for u in users if u.there is not None]
    total = sum(u.lights for u in having)
    if not total:
        return None
    return sum(u.lights * (_added_by(u, u.there) - _added(u, frames)) for u in having if u.there) / total


def _added(user: WouldUse, frames: int) -> float:
    return _added_by(user, Holding("", FrameKind.DARK, user.want, frames))


def _added_by(user: WouldUse, dark: Holding) -> float:
    terms = user.terms
    lights = replace(terms.lights, n_lights=max(user.lights, 1))
    return few_darks_percent(user.want, dark, terms.traits, lights, terms.tolerances.dither_positions)
