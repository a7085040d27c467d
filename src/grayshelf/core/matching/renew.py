"""Which slips have to be written anew when something comes onto the shelf, leaves it, or changes.

Slips that show the chosen ones alone, or what came nearest where nothing fits, are the ones that most changes leave as they
are; only for those is it asked here.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.best_rank import foretold
from grayshelf.core.matching.match import ALREADY_TAKEN_OFF, Asking, with_focal_lengths
from grayshelf.core.matching.model import Candidate, PullSlip, SlipLine, Verdict
from grayshelf.core.matching.stock import Role, Stock, Wanted, best_ranks


@dataclass(frozen=True)
class Change:
    """What is not on the shelf any more as it was, and what is there now that was not."""

    gone: Stock
    come: Stock

    @property
    def keys(self) -> frozenset[str]:
        """Of all that left, came or changed."""
        return frozenset(h.key for h in (*self.gone.holdings, *self.come.holdings))

    def touches(self, *kinds: FrameKind) -> bool:
        """Whether anything of these kinds left, came or changed."""
        return bool(self.gone.of(*kinds) or self.come.of(*kinds))


def change_between(before: Stock, after: Stock) -> Change:
    """What changed between two states of a camera's shelf."""
    old, new = {h.key: h for h in before.holdings}, {h.key: h for h in after.holdings}
    return Change(
        Stock(h for key, h in old.items() if new.get(key) is not h and new.get(key) != h),
        Stock(h for key, h in new.items() if old.get(key) is not h and old.get(key) != h),
    )


def unchanged(
    slips: Sequence[PullSlip], asking: Sequence[Asking], change: Change, before: Stock, after: Stock
) -> list[bool]:
    """For each slip whether it is sure to come out the same after a change of the shelf.

    Parameters
    ----------
    slips
        Written before the change for the same that asks now.
    before, after
        The shelf as it was, and as it is now.
    """
    keys = change.keys
    same = [not (keys & {c.holding.key for line in slip.lines for c in _shown(line)}) for slip in slips]
    # Lines of lights, then those of the flats that were chosen for them; only where something came that could be in one.
    lines: list[tuple[int, SlipLine, Wanted]] = []
    for number, (slip, one) in enumerate(zip(slips, asking, strict=True)):
        if not same[number] or not slip.lines:
            continue
        dark, flat, pedestal = slip.lines
        terms = one.terms
        if change.touches(FrameKind.FLAT):
            terms = with_focal_lengths(one.want, after, one.terms)
            if terms != with_focal_lengths(one.want, before, one.terms):
                # Another reducer came, or the last of one left.
                same[number] = False
                continue
            lines.append((number, flat, Wanted(Role.FLAT, one.want, terms)))
        if change.come.of(FrameKind.DARK):
            lines.append((number, dark, Wanted(Role.DARK, one.want, terms)))
        if flat.chosen is None:
            continue
        if change.touches(FrameKind.BIAS):
            # A bias may be taken off, stand in, or be asked about.
            same[number] = False
        elif change.touches(FrameKind.DARK, FrameKind.DARK_FLAT):
            if not _as_chosen(pedestal):
                # The line stands in the place of one of dark flats, which it does not show.
                same[number] = False
            elif change.come.of(FrameKind.DARK, FrameKind.DARK_FLAT):
                settings = flat.chosen.holding.settings
                lines.append((number, pedestal, Wanted(Role.DARK_FLAT, settings, terms)))
    rows = best_ranks(change.come, [wanted for _, _, wanted in lines])
    for (number, line, _), row in zip(lines, rows, strict=True):
        shown = _shown(line)
        if row.candidates.any() and (not shown or row.could_precede(foretold(shown[-1]))):
            same[number] = False
    return same


def _as_chosen(pedestal: SlipLine) -> bool:
    """Whether a line shows the dark flats that were looked through for it."""
    return pedestal.kind is FrameKind.DARK_FLAT and (
        pedestal.chosen is not None
        or pedestal.verdict is Verdict.NOTHING
        or pedestal.note == ALREADY_TAKEN_OFF
    )


def _shown(line: SlipLine) -> tuple[Candidate, ...]:
    return line.runners_up if line.chosen is None else (line.chosen, *line.runners_up)
