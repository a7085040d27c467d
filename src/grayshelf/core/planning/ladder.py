"""A ladder of exposures as a person writes it: '1, 2, 5, 10 s', 'from 1 s to 5.7 s'."""

from __future__ import annotations

import re

from grayshelf.core.errors import GrayShelfError

#: More rungs than this are a slip of the pen.
MOST_RUNGS = 40
#: Between two rungs of 'from … to …': a dark serves exposures within a percent, so people lay them by halves of a stop.
RUNG_FACTOR = 2.0**0.5
LONGEST_S = 7200.0
_UNITS = {"": 1.0, "s": 1.0, "sec": 1.0, "ms": 1e-3, "min": 60.0, "m": 60.0, "h": 3600.0}
_TIME = r"(\d+\s*/\s*\d+|\d+(?:\.\d+)?)\s*(ms|sec|s|min|m|h)?"


def ladder_of(text: str) -> tuple[float, ...]:
    """Exposures in seconds, shortest first.

    'from 1 s to 8 s' is laid in steps of half a stop, both ends in it, rounded to two digits; numbers are divided by
    commas, blanks or semicolons (then a comma is a decimal one), and one without a unit has that of the next one that has one.

    Raises
    ------
    GrayShelfError
        Where it is no ladder, or one of more than `MOST_RUNGS`.
    """
    if ";" in text:
        # Where a semicolon divides, a comma is a decimal one.
        text = text.replace(",", ".")
    spread = re.fullmatch(rf"\s*(?:from\s+)?{_TIME}\s*(?:to|–|-|…)\s*{_TIME}\s*", text, re.IGNORECASE)
    if spread is not None:
        return _spread(_seconds(spread[1], spread[2] or spread[4]), _seconds(spread[3], spread[4]))
    parts = re.findall(rf"{_TIME}(?:\s*[,;]\s*|\s+|$)", text.strip(), re.IGNORECASE)
    left = re.sub(rf"{_TIME}(?:\s*[,;]\s*|\s+|$)", "", text.strip(), flags=re.IGNORECASE)
    if not parts or left.strip(" ,;"):
        raise GrayShelfError(
            f"‘{text}’ is no ladder of exposures.", "Write it like ‘1, 2, 5, 10 s’ or ‘from 1 s to 8 s’."
        )
    unit, found = "", []
    for number, own in reversed(parts):
        unit = own or unit
        found.append(_seconds(number, unit))
    return _checked(sorted(set(found)))


def _seconds(number: str, unit: str) -> float:
    if "/" in number:
        top, bottom = (float(part) for part in number.split("/"))
        value = top / bottom if bottom else 0.0
    else:
        value = float(number)
    return value * _UNITS[(unit or "").lower()]


def _spread(first: float, last: float) -> tuple[float, ...]:
    low, high = min(first, last), max(first, last)
    if low <= 0.0:
        raise GrayShelfError("A ladder begins above 0 s.")
    rungs, at = [low], low * RUNG_FACTOR
    while at < high / RUNG_FACTOR**0.5:
        rungs.append(float(f"{at:.2g}"))
        at *= RUNG_FACTOR
    return _checked(sorted({*rungs, high}))


def _checked(rungs: list[float]) -> tuple[float, ...]:
    if len(rungs) > MOST_RUNGS:
        raise GrayShelfError(
            f"A ladder of {len(rungs)} exposures would fill nights: {MOST_RUNGS} at most.",
            "Lay fewer; darks serve lights within a percent or so of their exposure.",
        )
    if any(not 0.0 < rung <= LONGEST_S for rung in rungs):
        raise GrayShelfError("Exposures of darks lie above 0 s and below two hours.")
    return tuple(rungs)
