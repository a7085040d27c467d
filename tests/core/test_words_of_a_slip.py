"""How a slip says what is wrong, and what it asks: word by word, and only where it is so."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime
from functools import partial

import pytest

from grayshelf.core.digits import significant
from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind, parse_kind
from grayshelf.core.frames.night_moves import BY_HAND, NightMove, as_told, moved
from grayshelf.core.matching import rulers
from grayshelf.core.matching.judge import Terms, judge_dark, tell
from grayshelf.core.matching.match import pull_slip
from grayshelf.core.matching.model import Holding, RigSays
from grayshelf.core.matching.parts import BIAS_WILL_DO, questions
from grayshelf.core.matching.passed_over import passed_over
from tests.core.holdings import WANT, hold
from tests.helpers import settings


def test_an_angle_that_says_nothing_is_told_so_only_where_both_have_one():
    sky, plain, none = (
        settings(angle=CameraAngle(90.0, "sky")),
        settings(angle=CameraAngle(90.0)),
        settings(angle=None),
    )
    told = "a sky angle without the side of the pier says nothing"
    for want, have, note in (
        (sky, plain, told),
        (plain, sky, told),
        (none, plain, ""),
        (plain, none, ""),
        (none, none, ""),
    ):
        ruler = rulers.angle(want, have, 1.0)
        assert ruler.unknown and ruler.note == note and ruler.distance is None
    found = rulers.angle(settings(angle=CameraAngle(359.5)), settings(angle=CameraAngle(0.5)), 1.0)
    assert found.inside and found.distance == pytest.approx(1.0) and not found.unknown


@pytest.mark.parametrize(
    ("kind", "change", "words"),
    [
        (FrameKind.FLAT, {"telescope": "Other"}, "another telescope, Other"),
        (FrameKind.DARK, {"gain": 0.0}, "gain 0, not 200"),
        (FrameKind.DARK, {"sensor_temp_c": -5.0}, "temperature off by +5 °C"),
        (FrameKind.DARK, {"sensor_temp_c": -15.0}, "temperature off by −5 °C"),
        (FrameKind.FLAT, {"angle": CameraAngle(95.2)}, "angle off by +4°"),
        (FrameKind.FLAT, {"focus": 3_000.0}, "focus off by −9,000 steps"),
    ],
)
def test_what_is_outside_is_told_in_words(kind, change, words):
    want = replace(WANT, angle=CameraAngle(91.2), filter_code="Ha", telescope="Heron 92", focus=12_000.0)
    have = replace(want, **change)
    slip = pull_slip(want, [Holding("1", kind, have, 50)], Terms())
    line = next(x for x in slip.lines if x.kind is kind)
    beside = line.chosen or line.runners_up[0]
    outside = [tell(r, Terms()) for r in beside.rulers if not r.inside and not r.unknown]
    assert words in outside
    # A flat of another filter is no candidate; said of one that came in, it is told as a telescope is.
    assert tell(rulers.exact("filter", "Ha", "L"), Terms()) == "another filter, L"


def asked(want, holdings, says=RigSays(), bias_at_hand=True):
    slip = pull_slip(want, holdings, Terms())
    return [q.quantity for q in questions(want, slip.lines, says, bias_at_hand=bias_at_hand)]


def test_a_bias_is_asked_for_in_place_of_dark_flats_only_where_those_are_what_is_missing():
    flat = hold("f", FrameKind.FLAT, pedestal_taken_off=False)
    dark_flat = hold("d", FrameKind.DARK_FLAT)
    assert asked(WANT, [flat]) == [BIAS_WILL_DO] and asked(WANT, [flat], bias_at_hand=False) == []
    # The dark is missing as well here, and that alone asks for no bias.
    assert asked(WANT, [flat, dark_flat]) == []
    assert asked(WANT, [flat], RigSays(fixed=frozenset({BIAS_WILL_DO}))) == []


def test_what_masters_are_called_by_programs_that_stack():
    """Common practice, no source."""
    for text, kind in (
        ("Integrated Dark", FrameKind.DARK),
        ("stacked flat", FrameKind.FLAT),
        ("Master Bias", FrameKind.BIAS),
    ):
        assert parse_kind(text) == (kind, True)


def test_a_frame_is_moved_to_another_night_by_its_time_alone_and_back():
    facts = FrameFacts(100, 100, 16, kind=FrameKind.LIGHT, camera="Cam", utc=datetime(2026, 3, 1, 12, 30, tzinfo=UTC),
                       night=date(2026, 3, 1), night_from="DATE-OBS")  # fmt: skip
    begins, ends = datetime(2026, 3, 1, 12, tzinfo=UTC), datetime(2026, 3, 1, 13, tzinfo=UTC)
    move = NightMove("Cam", begins, ends, date(2026, 2, 28))
    there = moved(facts, [move])
    assert (there.night, there.night_before, there.night_from) == (
        date(2026, 2, 28),
        date(2026, 3, 1),
        f"DATE-OBS{BY_HAND}",
    )
    assert as_told(there) == facts and as_told(facts) is facts
    for left in (
        replace(facts, utc=None), replace(facts, night=None), replace(facts, said={"night": "2026-03-05"}),
        replace(facts, camera="Other"), replace(facts, utc=ends), replace(facts, night=date(2026, 2, 28)),
    ):  # fmt: skip
        assert moved(left, [move]) == left
    assert moved(replace(facts, utc=begins), [move]).night == date(2026, 2, 28)
    # The newest word counts.
    later = NightMove("Cam", begins, ends, date(2026, 3, 2))
    assert moved(facts, [move, later]).night == date(2026, 3, 2)


def test_what_temperature_and_exposure_cost_together_is_told_once_and_each_alone_as_its_own():
    def reasons(**changes):
        return judge_dark(WANT, Holding("1", FrameKind.DARK, replace(WANT, **changes), 50)).reasons

    (both,) = reasons(sensor_temp_c=WANT.sensor_temp_c + 10.0, exposure_s=WANT.exposure_s + 60.0)
    assert both.startswith("temperature off by +10 °C and exposure off by +60 s: together they cost ")
    (alone,) = reasons(sensor_temp_c=WANT.sensor_temp_c + 10.0)
    assert alone.startswith("temperature off by +10 °C: costs ") and "the lights’ own noise" in alone
    (later,) = reasons(night=WANT.night.replace(year=WANT.night.year + 3))
    assert later == "3 years later, allowed 9 months"
    (older,) = reasons(night=WANT.night.replace(year=WANT.night.year - 3))
    assert older == "3 years old, allowed 9 months"
    short = replace(WANT, exposure_s=0.01)
    (little,) = judge_dark(short, Holding("1", FrameKind.DARK, replace(short, exposure_s=0.02), 50)).reasons
    assert "costs under 0.01 e⁻, under 0.01 e⁻ in" in little
    (named,) = reasons(from_name=frozenset({"temperature"}))
    assert named == "temperature −10 °C is only from a file’s name"
    (one,) = judge_dark(WANT, Holding("1", FrameKind.DARK, WANT, 1)).reasons
    assert one.startswith("only 1 frame: it adds ")


@pytest.mark.parametrize(
    ("value", "digits", "text"),
    [
        (100.0, 2, "100"), (0.0314, 2, "0.031"), (2_133.0, 2, "2,100"), (-1.96, 2, "−2"), (9.96, 2, "10"), (0.0, 3, "0"),
        (1_234_567.0, 3, "1,230,000"), (2.04e-7, 1, "0.0000002"), (12.5, 3, "12.5"),
    ],
)  # fmt: skip
def test_a_number_is_never_told_in_powers_of_ten(value, digits, text):
    assert significant(value, digits) == text
    # A wholly full master had "1e+02 %" of its pixels full, and a warm dark cost "6.7e+02 e⁻".
    assert "e" not in text


def test_what_is_passed_over_is_told_by_the_newest_that_has_a_reason():
    want = settings(filter_code="Ha")

    def of(year, **changes):
        return Holding(str(year), FrameKind.FLAT, replace(want, night=date(year, 3, 1), **changes), 20)

    binned, cut, same = of(2022, binning=(2, 2), width=50), of(2023, width=50), of(2024)
    told = partial(passed_over, FrameKind.FLAT, want, terms=Terms())
    assert told([binned]) == "the newest there: binning 2×2, not 1×1"
    assert told([binned, cut, same]) == f"the newest there: another size, 50 × {want.height}"
    assert told([same, of(2022, filter_code="OIII", width=50), of(2022, camera="other")]) == ""
