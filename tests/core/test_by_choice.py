"""A candidate that a person chose for a line of a slip: it counts, it says so, and the shelf still leads the others."""

from __future__ import annotations

import pytest

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.by_choice import CHOSEN_BY_HAND, NOT_THERE, YOU_CHOSE_ANOTHER, cannot_be_chosen
from grayshelf.core.matching.match import Asking, pull_slips
from grayshelf.core.matching.model import Verdict
from grayshelf.core.matching.stock import Stock
from tests.core.holdings import WANT, hold

DARK, FLAT, DARK_FLAT = FrameKind.DARK, FrameKind.FLAT, FrameKind.DARK_FLAT
SHELF = [
    hold("best"), hold("older", n=20), hold("warm", sensor_temp_c=-4.0), hold("small", width=50),
    hold("flat", FLAT, exposure_s=2.0), hold("turned", FLAT, exposure_s=2.0, angle=CameraAngle(50.0)),
    hold("dark flat", DARK_FLAT, exposure_s=2.0), hold("thin", DARK_FLAT, exposure_s=2.0, n=4),
]  # fmt: skip


def lines(runners_up=5, shelf=SHELF, **by_hand):
    asking = Asking(WANT, by_hand={kind.replace("_", " "): key for kind, key in by_hand.items()})
    slip = pull_slips([asking], Stock(shelf), runners_up)[0]
    return {line.kind: line for line in slip.lines}, slip


@pytest.mark.parametrize("runners_up", [0, 5])
def test_what_fits_fits_and_says_that_it_was_chosen(runners_up):
    dark = lines(runners_up, dark="older")[0][DARK]
    assert (dark.chosen.holding.key, dark.verdict, dark.by_hand, dark.note) == (
        "older",
        Verdict.FITS,
        True,
        CHOSEN_BY_HAND,
    )
    assert dark.runners_up[0].holding.key == "best" and dark.lost_on[0] == YOU_CHOSE_ANOTHER
    assert "older" not in {c.holding.key for c in dark.runners_up}
    # What the shelf would take anyhow is chosen by hand, too, and nothing leads the others in vain.
    same = lines(runners_up, dark="best")[0][DARK]
    assert same.by_hand and YOU_CHOSE_ANOTHER not in same.lost_on


def test_what_does_not_fit_is_used_with_care_and_keeps_its_reasons():
    found, slip = lines(dark="warm", flat="turned")
    assert (found[DARK].verdict, found[FLAT].verdict, slip.verdict) == (
        Verdict.CARE,
        Verdict.CARE,
        Verdict.CARE,
    )
    assert "6" in found[DARK].chosen.reasons[0] and "41.2" in " ".join(found[FLAT].chosen.reasons)
    # The dark flat is that of the flat that was chosen, or one chosen for itself.
    assert found[DARK_FLAT].chosen.holding.key == "dark flat"
    assert lines(flat="turned", dark_flat="thin")[0][DARK_FLAT].chosen.holding.key == "thin"


def test_what_is_gone_or_of_another_sensor_is_left_to_the_shelf():
    for key in ("gone", "small", "flat"):
        dark = lines(dark=key)[0][DARK]
        assert dark.chosen.holding.key == "best" and dark.note == NOT_THERE and not dark.by_hand
    assert (
        cannot_be_chosen(WANT, SHELF[3]) == ["another size, 50 × 80"]
        and cannot_be_chosen(WANT, SHELF[2]) == []
    )
    empty = lines(shelf=[hold("warm", sensor_temp_c=15.0)], dark="warm")[0][DARK]
    assert empty.verdict is Verdict.CARE and empty.runners_up == ()
