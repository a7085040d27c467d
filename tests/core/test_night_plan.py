"""A night before it begins: where its flats go, what a turn of the camera loses, and what it costs."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.planning.flats_go import FlatsGo, begins_at, lay_rounds, stands_of
from grayshelf.core.planning.night_plan import (
    MOST_COUNT,
    MOST_LIGHTS,
    MOST_NIGHTS,
    MOST_TARGETS,
    FlatRow,
    NightPlan,
    PlannedLights,
    PlannedTarget,
    at_the_end_of_a_set_up,
    check_plan,
    keeping_the_angle,
    one_exposure,
    price,
)
from grayshelf.core.planning.runsheet import plan_sheet
from grayshelf.core.planning.sheet import FlatSeries, RigPace
from tests.told import same_as_told

PACE = RigPace(download_s=2.0)


def lights(code, gain=100.0, count=10):
    return PlannedLights(code, 120.0, count, gain, 30.0)


TWO = NightPlan(
    (
        PlannedTarget("M 33", (lights("L"), lights("R"))),
        PlannedTarget("NGC 891", (lights("L"), lights("Ha", 200.0)), turned=True),
    )
)


def series(row: FlatRow, stand: int, known: float | None = 3.0) -> FlatSeries:
    return FlatSeries(
        row.filter_code, row.gain, row.offset, row.binning, 25, 25, prior_exposure_s=known, angle_deg=stand
    )


def cost(plan, *, turns_back=True, of=series, shared=False):
    def sheet(rows):
        return plan_sheet(one_exposure(rows) if shared else rows, [], PACE)

    return price(plan, of, sheet, turns_back=turns_back, download_s=2.0, turn_s=120.0)


def test_where_flats_go_sets_their_rounds_and_a_hand_that_turns_loses_an_angle():
    stands = stands_of([False, False, True])
    rows = [("L", "R"), ("L", "G"), ("L",)]

    def laid(go, *, turns_back=True):
        found = lay_rounds(stands, rows, go, turns_back=turns_back)
        return [(r.after, r.stands) for r in found.rounds], found.lost

    assert stands == [0, 0, 1]
    # The second target's L was shot after the first: nothing was turned between.
    after_each = [(0, ((0, ("L", "R")),)), (1, ((0, ("G",)),)), (2, ((1, ("L",)),))]
    assert laid(FlatsGo.AFTER_EACH_TARGET) == (after_each, ())
    before_turns = [(1, ((0, ("L", "R", "G")),)), (2, ((1, ("L",)),))]
    assert laid(FlatsGo.BEFORE_EACH_TURN, turns_back=False) == (before_turns, ())
    whole = [(2, ((0, ("L", "R", "G")), (1, ("L",))))]
    assert laid(FlatsGo.AT_THE_END) == (whole, ())
    assert laid(FlatsGo.NEXT_DAY, turns_back=False) == ([(2, ((1, ("L",)),))], ((0, ("L", "R", "G")),))


def test_the_price_is_that_of_its_sheets_and_says_where_it_comes_from():
    told = cost(TWO)
    # Four rows (L at two angles) of 25 flats and 25 dark flats at 3 s and 2 s of download: those of one exposure, gain
    # and offset share dark flats (arithmetic).
    assert (told.flats, told.dark_flats, told.hands) == (100, 50, 2)
    assert told.by_cause["flats"] == pytest.approx(100 * 5.0)
    assert told.by_cause["dark flats"] == pytest.approx(50 * 5.0)
    assert sum(told.by_cause.values()) == pytest.approx(told.seconds)
    assert sum(told.by_filter.values()) == pytest.approx(told.seconds - told.by_cause["hands"])
    assert told.lights_s == 40 * 122.0
    by_hand = cost(TWO, turns_back=False)
    same_as_told("nights", "prices of two targets", [told, by_hand])
    assert [rows for _, rows in by_hand.lost] == [tuple(FlatRow(c, 100.0, 30.0, 1) for c in ("L", "R"))]
    assert by_hand.turns == 1 and by_hand.hands == 3
    assert cost(replace(TWO, go=FlatsGo.BEFORE_EACH_TURN), turns_back=False).lost == ()


def test_what_would_cost_less_is_priced_by_the_same_sheets():
    apart = {"L": 1.0, "R": 2.0, "Ha": 8.0}

    def own(row, stand):
        return series(row, stand, apart[row.filter_code])

    plan = replace(TWO, go=FlatsGo.BEFORE_EACH_TURN)
    told = cost(plan, of=own)
    kept = cost(keeping_the_angle(plan), of=own)
    assert kept.hands == told.hands - 2 and kept.flats == told.flats - 25, "L once, and one round"
    shared = cost(plan, of=own, shared=True)
    assert shared.dark_flats < told.dark_flats
    stay = cost(at_the_end_of_a_set_up(replace(plan, nights=4)), of=own)
    assert stay.seconds == pytest.approx(cost(replace(plan, go=FlatsGo.AT_THE_END), of=own).seconds / 4)
    same_as_told("nights", "what would cost less", [told, kept, shared, stay])
    assert cost(TWO, of=lambda row, stand: None).rounds == (), "what the shelf has costs nothing"


@given(
    turned=st.lists(st.booleans(), min_size=1, max_size=6),
    go=st.sampled_from(FlatsGo),
    turns_back=st.booleans(),
    data=st.data(),
)
def test_every_row_is_shot_once_at_its_stand_or_said_to_be_lost(turned, go, turns_back, data):
    codes = st.lists(st.sampled_from("LRGB"), min_size=1, max_size=4)
    wanted = [tuple(data.draw(codes)) for _ in turned]
    stands = stands_of(turned)
    laid = lay_rounds(stands, wanted, go, turns_back=turns_back)
    shot = [(stand, row) for r in laid.rounds for stand, rows in r.stands for row in rows]
    lost = [(stand, row) for stand, rows in laid.lost for row in rows]
    asked = {(stand, row) for stand, rows in zip(stands, wanted, strict=True) for row in rows}
    assert len(shot) == len(set(shot)) and set(shot) | set(lost) == asked and not set(shot) & set(lost)
    if turns_back or go in (FlatsGo.AFTER_EACH_TARGET, FlatsGo.BEFORE_EACH_TURN):
        assert not lost
    for one in laid.rounds:
        assert all(stand <= stands[one.after] for stand, _ in one.stands), "never before its lights"


@pytest.mark.parametrize(
    ("plan", "said"),
    [
        (NightPlan(()), "1 to 12 targets"),
        (NightPlan((PlannedTarget("M 1", ()),)), "lights in 1 to"),
        (NightPlan((PlannedTarget(" ", (lights("L"),)),)), "name"),
        (NightPlan((PlannedTarget("M 1", (lights("L", count=0),)),)), "L has 1 to"),
        (NightPlan((PlannedTarget("M 1", (replace(lights("L"), exposure_s=0.0),)),)), "exposure"),
        (NightPlan((PlannedTarget("M 1", (replace(lights("L"), gain=-1.0),)),)), "gain"),
        (replace(TWO, nights=0), "nights"),
    ],
)
def test_a_plan_that_cannot_be_is_refused_in_words(plan, said):
    with pytest.raises(GrayShelfError, match=said) as refused:
        check_plan(plan)
    same_as_told("nights", f"refused: {said}", [refused.value.message, refused.value.advice])


def test_a_plan_may_be_as_large_as_it_is_said_to_be():
    many = tuple(lights(f"f{i}") for i in range(MOST_LIGHTS))
    whole = NightPlan((PlannedTarget("x" * 80, many),) * MOST_TARGETS, nights=MOST_NIGHTS)
    check_plan(whole)
    check_plan(NightPlan((PlannedTarget("M 1", (replace(lights("L"), exposure_s=7200.0, binning=16),)),)))
    check_plan(NightPlan((PlannedTarget("M 1", (lights("L", count=MOST_COUNT),)),)))
    for more, said in (
        (replace(whole, targets=(*whole.targets, whole.targets[0])), f"1 to {MOST_TARGETS} targets"),
        (replace(whole, nights=MOST_NIGHTS + 1), "nights"),
        (NightPlan((PlannedTarget("x" * 81, many),)), "1 to 80 letters"),
        (NightPlan((PlannedTarget("M 1", (*many, lights("more"))),)), "lights in 1 to"),
        (NightPlan((PlannedTarget("M 1", (lights("L", count=MOST_COUNT + 1),)),)), "L has 1 to"),
    ):
        with pytest.raises(GrayShelfError, match=said) as told:
            check_plan(more)
        same_as_told("nights", f"too large: {said}", [told.value.message, told.value.advice])


def test_flats_of_the_next_day_begin_in_its_morning():
    zone = ZoneInfo("Europe/London")
    evening = datetime(2026, 10, 18, 22, 0, tzinfo=UTC)
    begins = begins_at(FlatsGo.NEXT_DAY, evening, zone)
    assert begins == begins_at(FlatsGo.NEXT_DAY, datetime(2026, 10, 19, 3, 0, tzinfo=UTC), zone)
    assert begins.astimezone(zone).hour == 10 and begins.astimezone(zone).day == 19
    assert begins_at(FlatsGo.AT_THE_END, evening, zone) == evening
