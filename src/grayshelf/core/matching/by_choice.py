"""A line of a slip for which a person chose another candidate than the shelf would: it counts, and it says so."""

from __future__ import annotations

from dataclasses import replace

from grayshelf.core.matching.judge import not_the_same_sensor
from grayshelf.core.matching.model import Candidate, CommonSettings, Holding, SlipLine, Verdict
from grayshelf.core.matching.scaling import scaled
from grayshelf.core.matching.stock import Stock, Wanted

CHOSEN_BY_HAND = "chosen by hand"
NOT_THERE = "what was chosen by hand is not on the shelf any more"
YOU_CHOSE_ANOTHER = "your choice of another"
NO_NEED_TO_SCALE = "a dark that fits is here, so none is scaled"
CANNOT_BE_SCALED = "the dark that you chose cannot be scaled any more"


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
    holding = _on_shelf(wanted, stock, key)
    if holding is None:
        return _noted(line, NOT_THERE)
    candidate = wanted.judge(holding)
    if candidate.verdict is Verdict.NOTHING:
        candidate = replace(candidate, verdict=Verdict.CARE)
    return _chosen(line, candidate)


def with_scaled(line: SlipLine, wanted: Wanted, stock: Stock, key: str) -> SlipLine:
    """The line with a longer dark that a person let be scaled to the lights (`scaling`).

    A scaled dark is never the first choice: where one that fits has come since, that is used.

    Parameters
    ----------
    line
        As the shelf would write it.
    key
        Of the longer dark (`Holding.key`).
    """
    if line.verdict is Verdict.FITS:
        return _noted(line, NO_NEED_TO_SCALE)
    holding = _on_shelf(wanted, stock, key)
    if holding is None:
        return _noted(line, NOT_THERE)
    candidate = scaled(wanted, holding, stock)
    if isinstance(candidate, str):
        return _noted(line, f"{CANNOT_BE_SCALED}: {candidate}")
    return _chosen(line, candidate)


def _on_shelf(wanted: Wanted, stock: Stock, key: str) -> Holding | None:
    """What was chosen, where it is there and of the lights' own sensor."""
    holding = next((h for h in stock.of(*wanted.kinds) if h.key == key), None)
    return None if holding is None or wanted.not_the_same_sensor(holding.settings) else holding


def _noted(line: SlipLine, note: str) -> SlipLine:
    return replace(line, note="; ".join(n for n in (line.note, note) if n))


def _chosen(line: SlipLine, candidate: Candidate) -> SlipLine:
    key = candidate.holding.key
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
