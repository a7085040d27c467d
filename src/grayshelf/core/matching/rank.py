"""The order of candidates: what is known to be right first, then what it costs, then the newer one, of dark flats the one
nearer to the flats; of one night the master.

Among those that fit, a candidate of which something that matters is not known stands behind every one of which it
is known, whatever its age or count: what is not known may be wrong. Behind all that do as well stands one that is spoiled,
such as flats whose pixels are full.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from grayshelf.core.digits import significant
from grayshelf.core.matching.costs import ranked_e
from grayshelf.core.matching.model import Candidate, CommonSettings, Ruler, Verdict

#: What may be in doubt, the worst to be wrong in first.
DOUBTED = (
    "camera",
    "filter",
    "telescope",
    "focal length",
    "part of the sensor",
    "gain",
    "angle",
    "binning",
    "exposure",
    "temperature",
    "offset",
    "focus",
    "read-out mode",
    "colour phase",
    "row order",
    "age",
)
_NO_DOUBT = (0,) * len(DOUBTED)
ORDER = {Verdict.FITS: 0, Verdict.CARE: 1, Verdict.NOTHING: 2}
_FIELDS = {"doubts": 2, "verdict": 3, "nights": 4, "cost": 5, "near": 6, "day": 7, "loose": 8, "age": 9}

_FURTHER = "further nights away"


def doubts_of(rulers: Sequence[Ruler]) -> tuple[int, ...]:
    """For each of `DOUBTED`: 0 known or not judged, 1 from a file's name only, 2 not known."""
    doubted = {r.quantity: 2 if r.unknown else 1 for r in rulers if r.unknown or r.from_name}
    return tuple(doubted.get(quantity, 0) for quantity in DOUBTED) if doubted else _NO_DOUBT


def _nights(candidate: Candidate) -> float:
    for ruler in candidate.rulers:
        if ruler.quantity == "age" and ruler.unit == "nights":
            return math.inf if ruler.distance is None else ruler.distance
    return 0.0


def day_of(settings: CommonSettings) -> int:
    """The night of frames as the number of a day; 0 where it is not known, which is older than any.

    A master that another program made bears the time of its first frame, and the frames themselves that of their last: by
    the hour it would be the older.
    """
    night = settings.night or (settings.taken.date() if settings.taken else None)
    return night.toordinal() if night else 0


def _verdict(candidate: Candidate) -> float:
    """In `ORDER`; of those with which there is care, one that is spoiled stands behind all others."""
    spoiled = candidate.verdict is Verdict.CARE and candidate.holding.spoiled
    return ORDER[candidate.verdict] + (0.5 if spoiled else 0.0)


def rank(candidate: Candidate) -> tuple[Any, ...]:
    """Sort key; the last field makes it the same whatever order the shelf is read in.

    `best_rank` foretells the fields before the last four for a whole shelf at once, and goes by their order.
    """
    settings = candidate.holding.settings
    taken = settings.taken
    nothing = candidate.verdict is Verdict.NOTHING
    return (
        nothing,
        len(candidate.reasons) if nothing else 0,
        candidate.doubts,
        _verdict(candidate),
        _nights(candidate),
        ranked_e(candidate.cost_e),
        -day_of(settings) if candidate.nights_off is None else candidate.nights_off,
        -day_of(settings),
        0 if candidate.holding.is_master else 1,
        -(taken.timestamp() if taken else 0.0),
        candidate.holding.key,
    )


def lost_on(winner: Candidate | None, loser: Candidate) -> str:
    """Why a candidate was not chosen."""
    told = "; ".join(loser.reasons)
    if loser.verdict is Verdict.NOTHING or winner is None or ORDER[loser.verdict] > ORDER[winner.verdict]:
        return told
    first, second = rank(winner), rank(loser)
    if second[_FIELDS["doubts"]] != first[_FIELDS["doubts"]]:
        return _doubt(winner, loser)
    if second[_FIELDS["verdict"]] != first[_FIELDS["verdict"]]:
        return "; ".join(loser.holding.care)
    if second[_FIELDS["nights"]] != first[_FIELDS["nights"]]:
        return _FURTHER
    if second[_FIELDS["cost"]] != first[_FIELDS["cost"]]:
        return f"costs {significant(loser.cost_e, 2)} e⁻ against {significant(winner.cost_e, 2)}"
    if loser.nights_off is not None and second[_FIELDS["near"]] != first[_FIELDS["near"]]:
        return _FURTHER
    if (
        second[_FIELDS["day"]] == first[_FIELDS["day"]]
        and second[_FIELDS["loose"]] != first[_FIELDS["loose"]]
    ):
        return "not combined yet"
    older = any(second[_FIELDS[age]] != first[_FIELDS[age]] for age in ("day", "age"))
    return "older" if older else "the same in everything"


def _doubt(winner: Candidate, loser: Candidate) -> str:
    for quantity, won, lost in zip(DOUBTED, winner.doubts, loser.doubts, strict=True):
        if lost > won:
            return f"its {quantity} is {'not known' if lost == 2 else 'only in its file’s name'}"
    return "; ".join(loser.reasons)
