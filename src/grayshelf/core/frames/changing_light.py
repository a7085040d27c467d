"""Flats of a light that changes, as the sky in twilight: each is exposed as long as it needed, and no two alike."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import datetime, timedelta
from itertools import pairwise

#: Flats of one filter in one twilight are never further apart (common practice).
ONE_TWILIGHT = timedelta(hours=1)
#: Fewer say nothing of how the light went.
FEWEST = 3
#: A light that changes asks for another exposure at least this often; series at one exposure are of a steady light.
MOST_ALIKE = 3
#: The sky does not change more from one flat to the next (common practice): a longer step is one of a search.
LONGEST_STEP = 1.6
#: So many of the steps go the way of the light; a cloud or a star may turn some.
ONE_WAY = 0.8


def in_one_go(flats: Sequence[tuple[datetime, float]]) -> list[list[int]]:
    """The places of flats, in the order of time, parted where they are further apart than one twilight.

    Parameters
    ----------
    flats
        When each was begun, and for how many seconds it was exposed; of one second of a coarse clock the shorter is first.
    """
    parts: list[list[int]] = []
    for place in sorted(range(len(flats)), key=lambda i: (*flats[i], i)):
        if not parts or flats[place][0] - flats[parts[-1][-1]][0] > ONE_TWILIGHT:
            parts.append([])
        parts[-1].append(place)
    return parts


def follows_the_light(flats: Sequence[tuple[datetime, float]]) -> bool:
    """Whether exposures follow a light that fades or grows.

    Test shots of a search jump to and fro, and the flats after them are of one exposure.

    Parameters
    ----------
    flats
        When each was begun, and for how long it was exposed, in seconds as they were dialled; in the order of time.
    """
    exposures_s = [exposure_s for _, exposure_s in flats]
    alike = Counter(exposures_s)
    in_order = 2 * len({moment for moment, _ in flats}) > len(flats)
    if len(flats) < FEWEST or min(exposures_s) <= 0.0 or not in_order:
        return False
    steady = max(alike.values()) > len(flats) / 2
    if steady or len(alike) < FEWEST or len(flats) >= MOST_ALIKE * len(alike):
        return False
    steps = [after / before for before, after in pairwise(exposures_s)]
    longer = sum(1.0 <= step <= LONGEST_STEP for step in steps)
    shorter = sum(1.0 <= 1.0 / step <= LONGEST_STEP for step in steps)
    # Frames at one exposure tell nothing of how it came to be: of a search that jumped to it there may be many.
    changes = [max(step, 1.0 / step) for step in steps if step != 1.0]
    small = sum(change <= LONGEST_STEP for change in changes)
    return max(longer, shorter) >= ONE_WAY * len(steps) and small >= ONE_WAY * len(changes)
