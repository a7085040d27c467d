"""A line of a slip for which a person chose another candidate than the shelf would: it counts, and it says so."""

from __future__ import annotations

from dataclasses import replace

from grayshelf.core.matching.judge import not_the_same_sensor
from grayshelf.core.matching.model import CommonSettings, Holding, SlipLine, Verdict
from grayshelf.core.matching.stock import Stock, Wanted

CHOSEN_BY_HAND = "chosen by hand"
NOT_THERE = "what was chosen by hand is not on the shelf any more"
YOU_CHOSE_ANOTHER = "your choice of another"


def cannot_be_chosen(want: CommonSettings, holding: Holding) -> list[str]:
    """Why no person can choose a holding: its pixels are not those of the lights, in shape or as they are read out."""
    return not_the_same_sensor(want, holding.settings)


def with_choice(line: SlipLine, wanted: Wanted, stock: Stock, key: str) -> SlipLine:
    """The line with what a person chose.

    What would not fit is used with care, and its reasons stay. What the shelf would have chosen leads the others.

    Parameters
    ----------
    line
        As the shelf would write it.
    key
        Of the holding that was chosen (`Holding.key`).
    """
    holding = next((h for h in stock.of(*wanted.kinds) if h.key == key), None)
    if holding is None or wanted.not_the_same_sensor(holding.settings):
        return replace(line, note="; ".join(n for n in (line.note, NOT_THERE) if n))
    candidate = wanted.judge(holding)
    if candidate.verdict is Verdict.NOTHING:
        candidate = replace(candidate, verdict=Verdict.CARE)
    others = [
        (c, lost) for c, lost in zip(line.runners_up, line.lost_on, strict=True) if c.holding.key != key
    ]
    if line.chosen is not None and line.chosen.holding.key != key:
        others.insert(0, (line.chosen, YOU_CHOSE_ANOTHER))
    return SlipLine(
        line.kind,
        candidate.verdict,
        candidate,
        tuple(c for c, _ in others),
        tuple(lost for _, lost in others),
        CHOSEN_BY_HAND,
        by_hand=True,
    )
