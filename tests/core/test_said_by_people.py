"""What people say beside the frames: reminders, weather, notes, lists of names, answers, where a panel hangs."""

from __future__ import annotations

import math

import pytest

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.frames.name_list import names_in, stem_of
from grayshelf.core.frames.night_moves import notes_joined, notes_parted
from grayshelf.core.frames.weather import QUANTITIES, checked_weather
from grayshelf.core.matching.parts import ASKABLE, answered
from grayshelf.core.planning.gates import cap_on, device_trouble
from grayshelf.core.planning.pointing import AfterFlats, MountCard
from grayshelf.core.planning.reminders import (
    LONGEST,
    MOST,
    WHEN,
    Reminder,
    checked,
    of_gate,
    reminded,
    with_reminders,
)
from grayshelf.core.planning.sheet import RunSheet, SheetStep, StepKind


def test_reminders_are_kept_once_in_the_order_of_a_night():
    told = [
        Reminder("end", " dome   shut "),
        Reminder("panel", "heater off"),
        Reminder("end", "dome shut"),
        Reminder("cap", "x"),
    ]
    kept = checked(told)
    assert kept == (Reminder("panel", "heater off"), Reminder("cap", "x"), Reminder("end", "dome shut"))
    assert of_gate(kept, "end") == ("dome shut",) and of_gate(kept, "diffuser") == ()
    assert list(WHEN) == ["panel", "diffuser", "cap", "end"]
    assert len(checked([Reminder("end", str(i)) for i in range(MOST)])) == MOST
    assert checked([Reminder("end", "y" * LONGEST)])[0].text == "y" * LONGEST
    for wrong, why in (
        ([Reminder("end", str(i)) for i in range(MOST + 1)], f"{MOST} reminders"),
        ([Reminder("noon", "x")], "no gate ‘noon’"),
        ([Reminder("end", "  ")], f"1 to {LONGEST} letters"),
        ([Reminder("end", "y" * (LONGEST + 1))], f"1 to {LONGEST} letters"),
    ):
        with pytest.raises(GrayShelfError, match=why):
            checked(wrong)


def test_a_reminder_stands_behind_the_advice_and_first_on_the_board():
    gate = cap_on()
    told = reminded(
        gate, [Reminder("cap", "heater off"), Reminder("cap", "dew shield on"), Reminder("end", "z")]
    )
    assert told.advice == f"{gate.advice.rstrip('.')}. heater off. dew shield on"
    assert told.brief.startswith("heater off; dew shield on") and told.title == gate.title
    assert reminded(gate, [Reminder("end", "z")]) is gate
    steps = (SheetStep(StepKind.GATE, "c", 1.0, gate=gate), SheetStep(StepKind.FLATS, "f", 1.0))
    sheet = with_reminders(RunSheet(steps, (), ()), [Reminder("cap", "heater off")])
    assert "heater off" in sheet.steps[0].gate.advice and sheet.steps[1] == steps[1]


def test_weather_is_kept_within_what_can_be():
    assert checked_weather({"air_to_c": -4, "humidity_percent": None}, {"humidity_percent": 80.0, "wind_m_s": 2.0}) == {
        "air_to_c": -4.0, "wind_m_s": 2.0,
    }  # fmt: skip
    for q in QUANTITIES:
        assert checked_weather({q.name: q.least}, {}) == {q.name: q.least}
        assert checked_weather({q.name: q.most}, {}) == {q.name: q.most}
        for beyond in (q.least - 0.01, q.most + 0.01, math.nan):
            with pytest.raises(
                GrayShelfError, match=rf"{q.says.capitalize()} lies between .* and .*{q.unit}"
            ):
                checked_weather({q.name: beyond}, {})
    with pytest.raises(GrayShelfError, match="called ‘hail’"):
        checked_weather({"hail": 1.0}, {})
    with pytest.raises(GrayShelfError, match="−60 and 60 °C"):
        checked_weather({"air_from_c": -61.0}, {})


@pytest.mark.parametrize(
    ("now", "came", "left"),
    [
        ("dew at 2\nclouds", "clouds", "dew at 2"),
        ("clouds\ndew at 2", "clouds", "dew at 2"),
        ("a\nclouds\nb", "clouds", "a\nb"),
        ("clouds", "clouds", ""),
        ("clouds here", "clouds", "clouds here"),
        ("no clouds", "clouds", "no clouds"),
        ("clouds\nx\nclouds", "clouds", "clouds\nx"),
        ("dew", "", "dew"),
        ("dew", "wind", "dew"),
    ],
)
def test_notes_of_nights_that_are_parted_again(now, came, left):
    assert notes_parted(now, came) == left


def test_notes_are_joined_by_lines_and_nothing_is_no_line():
    assert notes_joined("a", "b") == "a\nb" and notes_joined("", "b") == "b" and notes_joined("a", "") == "a"


@pytest.mark.parametrize(
    ("line", "names"),
    [
        ("a.fits, b.fit;c.xisf\td", ["a.fits", "b.fit", "c.xisf", "d"]),
        ("  # a remark, x.fits\nIC 5146_001.fits\n\n", ["IC 5146_001.fits"]),
        ('"C:\\lights\\a b.fits"\r\n\'x.cr2\'', ["C:\\lights\\a b.fits", "x.cr2"]),
        ("a, a\na", ["a"]),
    ],
)  # fmt: skip
def test_names_in_a_list_by_other_programs(line, names):
    assert names_in(line) == names


def test_two_names_of_one_frame_share_their_stem():
    for name in (
        "L_001",
        "L_001.fits",
        "l_001.FIT.fz",
        '"D:\\x\\L_001.fts.gz"',
        "/x/y/L_001.xisf",
        " L_001.NEF ",
        "L_001.tif",
    ):
        assert stem_of(name) == "l_001", name
    assert stem_of("L_001_c.fits") == "l_001_c" and stem_of("M 33.5 min.fits") == "m 33.5 min"


def test_what_was_answered_is_said_in_words():
    assert (
        answered("angle", "fixed") == "angle: never turned"
        and answered("angle", "moves") == "angle: it is turned"
    )
    assert answered("angle", "perhaps") == "" and answered("colour", "fixed") == ""
    assert all(answered(q, says).startswith(f"{q}: ") for q in ASKABLE for says in ("fixed", "moves"))
    assert answered("bias in place of dark flats", "fixed") in (
        "",
        "bias in place of dark flats: a bias will do",
    )


def test_where_a_panel_hangs_is_both_or_neither_and_on_this_side_of_the_earth():
    assert MountCard().panel is None and MountCard().after is AfterFlats.STAY
    for place in ((-10.0, 0.0), (90.0, 359.9), (4.0, 185.0)):
        assert MountCard(*place).panel == place
    assert MountCard(horizon_deg=85.0).horizon_deg == 85.0 and MountCard(horizon_deg=0.0)
    for wrong, why in (
        ({"panel_altitude_deg": 4.0}, "altitude and an azimuth"),
        ({"panel_azimuth_deg": 4.0}, "altitude and an azimuth"),
        ({"panel_altitude_deg": -10.1, "panel_azimuth_deg": 0.0}, "between −10° and 90°"),
        ({"panel_altitude_deg": 90.1, "panel_azimuth_deg": 0.0}, "between −10° and 90°"),
        ({"panel_altitude_deg": 0.0, "panel_azimuth_deg": 360.0}, "through east"),
        ({"panel_altitude_deg": 0.0, "panel_azimuth_deg": -0.1}, "through east"),
        ({"horizon_deg": 85.1}, "between 0° and 85°"),
        ({"horizon_deg": -0.1}, "between 0° and 85°"),
    ):
        with pytest.raises(GrayShelfError, match=why):
            MountCard(**wrong)


def test_a_device_in_trouble_is_told_with_what_to_do():
    gate = device_trouble("It fell off.", "Put it back.")
    assert gate.advice == "It fell off. Put it back." and gate.needs_person and gate.sign == "trouble"
    assert device_trouble("It fell off.", "").advice == "It fell off."
