"""Filling the shelf in the time there is: against plain ways to choose, against the best there is, and by the clock."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime, time
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.capped import with_nobody
from grayshelf.core.planning.cooler_reach import reach_of
from grayshelf.core.planning.fill import (
    Chosen,
    Cooling,
    Count,
    Fillable,
    fill,
    in_order,
    saved_worth,
    seconds_of,
    served_worth,
)
from grayshelf.core.planning.ladder import MOST_RUNGS, ladder_of
from grayshelf.core.planning.sheet import DarkSeries, RigPace, StepKind
from grayshelf.core.planning.time_there_is import clock_in, time_there_is
from tests.told import same_as_told


def library(
    rng, n: int, temps: tuple[float | None, ...]
) -> tuple[list[Fillable], dict[str, tuple[int, int]]]:
    """Series that a made-up shelf lacks; with how many lights wait for each, and how old what is there is, in days."""
    found, facts = [], {}
    for number in range(n):
        lights, age = int(rng.integers(0, 80)) * int(rng.random() < 0.7), int(rng.integers(0, 900))
        exposure, usual = float(rng.choice([0.5, 10, 60, 120, 300, 600])), int(rng.choice([20, 30, 50]))
        before = None if rng.random() < 0.5 else float(rng.uniform(1, 40))

        def worth(k: int, m=lights, p=before) -> float:
            added = 30.0 / k
            return (served_worth(m, added) if p is None else saved_worth(m, added, p, old=True)) + 0.4 * (
                m == 0
            )

        counts = tuple(Count(k, worth(k)) for k in (usual, usual * 2 // 3, usual // 2))
        found.append(Fillable(f"{number:03}", exposure + 2.0, 25.0, counts, temps[rng.integers(len(temps))]))
        facts[found[-1].key] = (lights, age)
    return found, facts


def in_turn(order: list[Fillable], budget_s: float, cooling: Cooling) -> float:
    """A plain sheet: one after the other at the usual count, as long as there is time; its worth for an hour."""
    chosen: list[Chosen] = []
    for one in order:
        more = [*chosen, Chosen(one, one.counts[0])]
        if seconds_of(more, cooling) <= budget_s:
            chosen = more
    return sum(c.count.worth for c in chosen) / (budget_s / 3600)


def test_it_is_as_good_as_the_plain_ways_on_any_library():
    for seed in range(200):
        rng = np.random.default_rng(seed)
        temps = tuple(rng.choice([10.0, 0.0, -5.0, -10.0, -15.0, -20.0], rng.integers(1, 5), replace=False))
        some, facts = library(rng, int(rng.integers(3, 60)), (*temps, None))
        budget, cooling = float(rng.uniform(900, 9 * 3600)), Cooling(float(rng.uniform(-20, 20)))
        found = fill(some, budget, cooling)
        assert found.seconds <= budget + 1e-6
        if seed % 20 == 0:
            chosen = [[c.fillable.key, c.count] for c in found.chosen]
            same_as_told("filling", f"{seed}", [chosen, found.seconds, found.worth])
        rate = found.worth / (budget / 3600)
        oldest = sorted(some, key=lambda f: -facts[f.key][1])
        waited_for = sorted(some, key=lambda f: -facts[f.key][0])
        for order in (oldest, waited_for):
            assert rate >= in_turn(order, budget, cooling) - 1e-9, seed
        goals = [c.fillable.temp_c for c in found.chosen if c.fillable.temp_c is not None]
        turns = [t for t, _ in itertools.groupby(goals)]
        assert turns == in_order(goals, cooling.now_c), "each set point once, in one direction"


def test_it_is_within_a_twentieth_of_the_best_there_is():
    for seed in range(25):
        rng = np.random.default_rng(1000 + seed)
        some, _ = library(rng, 6, (0.0, -5.0, -10.0, None))
        budget, cooling = float(rng.uniform(1200, 6 * 3600)), Cooling(float(rng.uniform(-10, 15)))
        best = 0.0
        for counts in itertools.product(*[(None, *f.counts) for f in some]):
            chosen = [Chosen(f, c) for f, c in zip(some, counts, strict=True) if c is not None]
            if seconds_of(chosen, cooling) <= budget:
                best = max(best, sum(c.count.worth for c in chosen))
        assert fill(some, budget, cooling).worth >= 0.95 * best - 1e-9, seed


def test_what_a_person_asks_for_is_on_it_however_short_the_time():
    asked = Fillable("a", 600.0, 20.0, (Count(30, 0.0),), -10.0, asked=True)
    other = Fillable("b", 10.0, 20.0, (Count(30, 9.0),), -10.0)
    found = fill([asked, other], 3600.0, Cooling(-10.0))
    assert [c.fillable.key for c in found.chosen] == ["a"]
    assert fill([], 3600.0, Cooling(None)).chosen == ()
    assert fill([other], 0.0, Cooling(5.0)).chosen == ()


def test_worth_is_told_in_lights():
    # Noise of a stack falls with the root of its lights: 5 % less noise is as 10.25 % more lights (arithmetic).
    assert served_worth(100, 0.0) == 100.0
    assert served_worth(100, 5.0) == pytest.approx(100 / 1.1025)
    assert saved_worth(40, 2.0, 2.0) == 0.0
    assert saved_worth(40, 9.0, 2.0) == 0.0, "fewer frames than there are save nothing"


def test_set_points_come_in_one_direction_and_bias_costs_none():
    def dark(seconds, temp):
        return DarkSeries(seconds, temp, 100, 30, 1, 20)

    bias = DarkSeries(0.001, None, 100, 30, 1, 100, kind=FrameKind.BIAS)
    series = [dark(300, -10), dark(60, 0), bias, dark(60, -10), dark(60, -5)]

    def told(sensor_c):
        return [
            (s.kind.value, s.dark.set_temp_c, s.exposure_s)
            for s in with_nobody(series, sensor_c, RigPace())
            if s.kind is not StepKind.BUILD
        ]

    down = [("cool", 0, None), ("bias", None, 0.001), ("darks", 0, 60), ("cool", -5, None), ("darks", -5, 60)]
    assert told(12.0)[:5] == down
    assert [t for kind, t, _ in told(-10.2) if kind == "cool"] == [-5, 0], (
        "it is cold: upwards, and no cooling first"
    )
    alone = with_nobody([bias], 15.0, RigPace())
    same_as_told("filling", "darks with nobody there", with_nobody(series, 12.0, RigPace()))
    assert [s.kind for s in alone] == [StepKind.BIAS, StepKind.BUILD]


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("1, 2, 5, 10 s", (1, 2, 5, 10)),
        ("1,2,5,10", (1, 2, 5, 10)),
        ("from 1 s to 5.7 s", (1, 1.4, 2, 2.8, 4, 5.7)),
        ("60 120 300", (60, 120, 300)),
        ("0,5 s; 1 s", (0.5, 1)),
        ("1 min, 5 min", (60, 300)),
        ("2 MIN; 10 S", (10, 120)),
        ("1/60 s", (1 / 60,)),
        ("500 ms, 2 s", (0.5, 2)),
    ],
)
def test_a_ladder_is_read_as_people_write_it(text, expected):
    assert ladder_of(text) == pytest.approx(expected)


@pytest.mark.parametrize(
    "text", ["", "dark", "1 2 y", "0", "-5", "from 0 to 5", "3 h", ", ".join(map(str, range(1, 400)))]
)
def test_what_is_no_ladder_is_said(text):
    with pytest.raises(GrayShelfError) as said:
        ladder_of(text)
    same_as_told("filling", f"no ladder: {text[:20]}", [said.value.message, said.value.advice])
    assert MOST_RUNGS < 400


def test_a_time_by_the_clock_is_read_as_people_write_it():
    for text in ("05:30", "5:30", " 5.30 ", "5h30", "0530", "530", "5:30 am", "05:30:00", "5.30 a.m."):
        assert clock_in(text) == time(5, 30), text
    told = {
        "5 pm": time(17),
        "12:05 am": time(0, 5),
        "12pm": time(12),
        "24:00": time(0),
        "23:59": time(23, 59),
    }
    assert {text: clock_in(text) for text in told} == told
    for text in (
        "",
        "5",
        "17",
        "99:00",
        "5:60",
        "24:01",
        "13 pm",
        "0 am",
        "tomorrow",
        "5:3",
        "05:30 h",
        "-5:30",
    ):
        with pytest.raises(GrayShelfError):
            clock_in(text)


def test_the_time_there_is_follows_the_clock_the_hours_or_the_battery():
    london = ZoneInfo("Europe/London")
    now = datetime(2026, 10, 24, 22, 0, tzinfo=UTC)  # 23:00 by summer time
    # Summer time ends in this night: half past five is an hour further off than the clock's hands say.
    assert time_there_is(now, london, "05:30").seconds_from(now) == 7.5 * 3600
    assert time_there_is(now, london, "22:59").seconds_from(now) == 24 * 3600 + 3540, (
        "the next one, not one before now"
    )
    assert time_there_is(now, london, hours=2.5).seconds_from(now) == 9000
    # 500 Wh at 40 W last 12.5 h (arithmetic); the earliest of several ends counts.
    assert time_there_is(now, london, battery_wh=500, watts=40).seconds_from(now) == 12.5 * 3600
    assert time_there_is(now, london, hours=20, battery_wh=500, watts=40).set_by.startswith("the battery")
    for wrong in (
        {"until": "25:00"},
        {"until": "soon"},
        {"hours": 0},
        {"hours": -1},
        {"battery_wh": 500},
        {"watts": 0, "battery_wh": 9},
    ):
        with pytest.raises(GrayShelfError) as said:
            time_there_is(now, london, **wrong)
        same_as_told("filling", f"no time: {wrong}", [said.value.message, said.value.advice])


def test_a_cooler_reaches_as_far_as_its_power_tells():
    # At 40 % it holds 16 °C below the air, so at full power 40 °C; the heat goes with the difference (common practice).
    reach = reach_of(6.0, 35.0, -10.0, 40.0)
    assert reach.measured and reach.below_air_c == pytest.approx(40.0)
    same_as_told("filling", "how far a cooler reaches", reach)
    assert reach.can_hold(-34.0) and not reach.can_hold(-34.5)
    assert reach.coldest_c == -26.0 and reach.power_percent(-26.0) == pytest.approx(80.0)
    assert reach_of(6.0, 35.0, 5.5, 2.0).below_air_c == 35.0, "a cooler that hardly works tells nothing"
    assert reach_of(6.0, None, None, None) is None and reach_of(None, 35.0, -10.0, 40.0) is None
    assert reach_of(20.0, 30.0, None, None).coldest_c == -4.0
