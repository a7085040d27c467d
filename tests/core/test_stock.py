"""A shelf that is looked through by its likeliest candidates gives the same slips as one that is walked whole."""

from __future__ import annotations

import random
from dataclasses import fields, replace
from datetime import UTC, date, datetime, timedelta

import pytest

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.best_rank import foretold
from grayshelf.core.matching.judge import Terms, tell
from grayshelf.core.matching.match import Asking, pull_slips, same_gap
from grayshelf.core.matching.model import (
    CommonSettings,
    Holding,
    LightsNoise,
    RigSays,
    SensorTraits,
    Tolerances,
    TrainEvent,
)
from grayshelf.core.matching.newer import is_newer, same_settings, same_train
from grayshelf.core.matching.parts import ASKABLE
from grayshelf.core.matching.rank import rank
from grayshelf.core.matching.renew import change_between, unchanged
from grayshelf.core.matching.stock import Role, Stock, Wanted, best_ranks, foremost
from tests.told import same_as_told

FIRST = date(2024, 11, 3)
NAMES = ("gain", "offset", "binning", "exposure", "temperature")


def some_settings(rng: random.Random) -> CommonSettings:
    """Settings of one imager's years: a few values of each, some not known, some off by a little."""

    def known(*values):
        return rng.choice((*values, None)) if rng.random() < 0.3 else rng.choice(values)

    angle = CameraAngle(
        rng.choice((0.3, 1.2, 90.0, 179.9, 359.6)),
        rng.choice(("mechanical", "mechanical", "sky")),
        known("east", "west"),
    )
    night = known(*(FIRST + timedelta(days=d) for d in (0, 1, 2, 3, 40, 300, 500)))
    return CommonSettings(
        rng.choice(("A", "A", "A", "B")),
        rng.choice((4144, 4144, 2072)),
        2822,
        binning=known((1, 1), (1, 1), (2, 2)),
        read_mode=known("low noise", "low noise", "fast"),
        sample_step=known(4, 4, 1),
        row_order=known("TOP-DOWN"),
        bayer_pattern=known("RGGB"),
        gain=known(100.0, 100.0, 0.0),
        offset=known(30.0, 30.0, 50.0),
        exposure_s=known(2.0, 2.03, 60.0, 300.0, 302.0, 600.0),
        sensor_temp_c=known(-10.0, -9.2, -11.5, 0.0, 15.0),
        temp_range_c=rng.choice((0.0, 0.0, 3.0)),
        held=rng.random() < 0.6,
        telescope=known("Esprit-like 100", "esprit like 100", "Mak"),
        focal_length_mm=known(550.0, 550.0, 440.0),
        filter_code=known("Ha", "Ha", "OIII", "L"),
        angle=known(angle),
        focus=known(5000.0, 5100.0, 7000.0),
        night=night,
        good_on=night and known(None, None, night + timedelta(days=rng.choice((10, 100, 400)))),
        taken=None if night is None else datetime(night.year, night.month, night.day, 22, tzinfo=UTC),
        from_name=frozenset(rng.sample(NAMES, rng.choice((0, 0, 0, 1, 2)))),
        by_hand=frozenset(rng.sample(NAMES, rng.choice((0, 0, 1)))),
    )


def some_holding(rng: random.Random, number: int) -> Holding:
    return Holding(
        str(number),
        rng.choice((FrameKind.DARK, FrameKind.FLAT, FrameKind.DARK_FLAT, FrameKind.BIAS)),
        some_settings(rng),
        rng.choice((1, 2, 10, 30, 30, 100)),
        is_master=rng.random() < 0.6,
        care=rng.choice(((), (), ("its panel drifted",))),
        noise_e=rng.choice((None, None, 0.5)),
        signal_e=rng.choice((None, 8_000.0)),
    )


def some_terms(rng: random.Random) -> Terms:
    asked = rng.sample((*ASKABLE, "age"), rng.choice((0, 0, 0, 1, 3)))
    event = TrainEvent(datetime(2024, 11, 5, 12, tzinfo=UTC), "collimated")
    return Terms(
        Tolerances(train_stays_put=rng.random() < 0.3, mismatch_share=rng.choice((0.02, 0.1, 0.5))),
        SensorTraits(dark_rate_e_s=rng.choice((0.0005, 0.003, 0.2)), read_noise_e=rng.choice((1.4, 7.0))),
        LightsNoise(rng.choice((5, 80)), rng.choice((None, 12.0))),
        RigSays(frozenset(asked)),
        events=rng.choice(((), (event,))),
        several_focal_lengths=rng.random() < 0.5,
    )


def another_filter(want, holding, terms):
    mine, other = want.filter_code, holding.settings.filter_code
    return "filter" not in terms.says.fixed and mine is not None and other is not None and mine != other


def some_stock(rng: random.Random, count: int) -> Stock:
    return Stock([some_holding(rng, i) for i in range(count)])


def of_parts(rng: random.Random, settings: CommonSettings) -> CommonSettings:
    """The same of frames that say which part of the sensor they are of."""
    return replace(settings, corner=rng.choice(((0, 0), (0, 0), (1000, 0), (1001, 0), (3000, 0), None)))


@pytest.mark.parametrize("seed", range(40))
def test_the_likeliest_come_first_and_none_that_is_passed_over_could_have(seed):
    rng = random.Random(seed)
    stock = some_stock(rng, rng.choice((8, 120)))
    terms = some_terms(rng)
    # Some on the same terms, which are foretold together, and some on their own.
    wanted = [
        Wanted(role, some_settings(rng), t)
        for t in (terms, replace(terms, lights=LightsNoise(3, 40.0)), terms, some_terms(rng), some_terms(rng))
        for role in Role
    ]
    if seed % 2:
        stock = Stock([replace(h, settings=of_parts(rng, h.settings)) for h in stock.holdings])
        wanted = [replace(w, settings=of_parts(rng, w.settings)) for w in wanted]
    if seed % 3 == 0:
        wanted = [replace(w, terms=replace(w.terms, several_cameras=True)) for w in wanted]
    if seed % 4 == 0:
        stock = Stock([replace(h, level_adu=rng.choice((None, 500.0, 2000.0))) for h in stock.holdings])
        bright = LightsNoise(20, 12.0, 900.0)
        wanted = [replace(w, terms=replace(w.terms, lights=bright)) for w in wanted]
    for one, row in zip(wanted, best_ranks(stock, wanted), strict=True):
        walked = [
            one.judge(h)
            for h in stock.of(*one.kinds)
            if not one.not_the_same_sensor(h.settings)
            and not (one.role is Role.FLAT and another_filter(one.settings, h, one.terms))
        ]
        walked.sort(key=rank)
        for most in (1, 6):
            assert foremost(row, one, most) == walked[:most]
        best = {holding.key: ranked for ranked, holding in row.in_order()}
        assert set(best) == {c.holding.key for c in walked}
        for candidate in walked:
            assert best[candidate.holding.key] <= foretold(candidate)


@pytest.mark.parametrize("stays", [False, True])
def test_flats_that_differ_by_their_night_alone_are_foretold_as_they_are_judged(stays):
    rng = random.Random(8)
    wanted = replace(some_settings(rng), night=date(2024, 11, 1), from_name=frozenset())
    flats = [
        Holding(
            str(apart), FrameKind.FLAT, replace(wanted, night=date(2024, 11, 1 + apart)), 30, signal_e=8_000.0
        )
        for apart in (0, 2, 3, 20)
    ]
    one = Wanted(Role.FLAT, wanted, Terms(Tolerances(train_stays_put=stays)))
    (row,) = best_ranks(Stock(flats), [one])
    best = {holding.key: ranked for ranked, holding in row.in_order()}
    judged = [one.judge(flat) for flat in flats]
    assert len(best) == 4 and len({c.verdict for c in judged}) == (1 if stays else 2)
    assert all(best[c.holding.key][0] == foretold(c)[0] for c in judged), (
        "neither better nor worse than it is"
    )


@pytest.mark.parametrize("seed", range(40))
def test_a_slip_that_is_kept_after_a_change_is_the_one_that_would_be_written(seed):
    rng = random.Random(1000 + seed)
    before = some_stock(rng, 100)
    terms = some_terms(rng)
    asking = [Asking(some_settings(rng), rng.choice((terms, some_terms(rng)))) for _ in range(30)]
    old = pull_slips(asking, before, runners_up=0)
    kept = 0
    for _ in range(6):
        left = [h for h in before.holdings if rng.random() > 0.02]
        changed = [replace(h, n_frames=7) if rng.random() < 0.02 else h for h in left]
        come = [some_holding(rng, 1000 + i) for i in range(rng.choice((0, 1, 2)))]
        after = Stock([*changed, *come])
        new = pull_slips(asking, after, runners_up=0)
        same = unchanged(old, asking, change_between(before, after), before, after)
        for stays, was, is_now in zip(same, old, new, strict=True):
            assert not stays or was == is_now
        kept += sum(same)
    assert kept > 30, "most changes leave most slips alone"


def _told(slip, terms):
    """A slip as plain values: each holding by its key with its verdict, costs and reasons, the chosen one with all rulers."""

    def candidate(one, chosen):
        outside = [tell(r, terms) for r in one.rulers if not r.inside and not r.unknown]
        rulers = [outside, [tuple(r) for r in one.rulers] if chosen else []]
        return [one.holding.key, one.verdict, one.mismatch_e, one.noise_e, one.doubts, one.reasons, rulers]

    lines = [
        [x.kind, x.verdict, x.note, x.waits_for, x.lost_on]
        + [candidate(c, c is x.chosen) for c in (x.chosen, *x.runners_up) if c is not None]
        for x in slip.lines
    ]
    return [slip.verdict, slip.warnings, slip.questions, lines]


@pytest.mark.parametrize("seed", range(6))
def test_slips_of_all_kinds_of_shelves_are_told_as_they_were(seed):
    rng = random.Random(7_000 + seed)
    stock = some_stock(rng, 40 if seed % 2 else 150)
    asking = [
        Asking(some_settings(rng), some_terms(rng), pedestal_adu=rng.choice((None, None, 100.0)))
        for _ in range(8)
    ]
    for number, (one, slip) in enumerate(zip(asking, pull_slips(asking, stock, runners_up=3), strict=True)):
        same_as_told("slips", f"{seed}, {number}", _told(slip, one.terms))


def test_what_is_newer_and_of_the_same_settings_or_train_is_so_as_it_was():
    rng = random.Random(4)
    found = []
    for _ in range(3_000):
        one = some_settings(rng)
        # The part of the sensor and the stop of a lens are asked for elsewhere.
        asked = [f.name for f in fields(one) if f.name not in ("corner", "lens_stop")]
        names = rng.sample(asked, rng.choice((1, 2)))
        other = replace(one, **{name: getattr(some_settings(rng), name) for name in names})
        pairs = [same_settings(kind, one, other, Tolerances()) for kind in FrameKind]
        more = (
            is_newer(one, other),
            same_train(one, other, Tolerances()),
            same_gap(FrameKind.FLAT, one, other, 1.0),
        )
        found.append("".join("01"[bool(v)] for v in (*pairs, *more)))
    same_as_told("slips", "pairs", [" ".join(found[i : i + 20]) for i in range(0, len(found), 20)])
