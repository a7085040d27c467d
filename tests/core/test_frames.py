"""Reading what frames say of themselves, their nights, and the sets they fall into."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from astropy.coordinates import angular_separation

from grayshelf.core.filing.names import frame_stem, safe_name
from grayshelf.core.frames.angle import CameraAngle, angle_between, circular_mean
from grayshelf.core.frames.facts import FrameFacts, lacking
from grayshelf.core.frames.file_names import values_in_name
from grayshelf.core.frames.filters import normal_filter
from grayshelf.core.frames.full_scale import are_shares
from grayshelf.core.frames.kinds import FrameKind, parse_kind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.frames.place import Place, apart_km, clock_off_h
from grayshelf.core.frames.sets import Member, common_facts, group_into_sets, nominal_exposure
from grayshelf.core.frames.write import frame_header, write_frame
from tests.helpers import DARK, FLAT, LIGHT, LONDON, facts_of, write_fits


@pytest.mark.parametrize(
    ("text", "kind", "master"),
    [
        # Spellings in common use; common practice, no source.
        ("Light Frame", FrameKind.LIGHT, False), ("LIGHT", FrameKind.LIGHT, False), ("object", FrameKind.LIGHT, False),
        ("Dark Frame", FrameKind.DARK, False), ("Bias Frame", FrameKind.BIAS, False), ("zero", FrameKind.BIAS, False),
        ("Flat Field", FrameKind.FLAT, False), ("Sky Flat", FrameKind.FLAT, False), ("DARKFLAT", FrameKind.DARK_FLAT, False),
        ("Flat Dark", FrameKind.DARK_FLAT, False), ("FlatDark", FrameKind.DARK_FLAT, False), ("dark-flat", FrameKind.DARK_FLAT, False),
        ("Master Dark", FrameKind.DARK, True), ("masterFlat", FrameKind.FLAT, True), ("MASTER BIAS FRAME", FrameKind.BIAS, True),
        ("Darks", FrameKind.DARK, False), ("focus", None, False), ("Biases", FrameKind.BIAS, False), ("superdark", FrameKind.DARK, True),
        ("twiflat", FrameKind.FLAT, False), ("super", None, True),
    ],
)  # fmt: skip
def test_kinds_in_all_spellings(text, kind, master):
    assert parse_kind(text) == (kind, master)


def test_two_dialects_say_the_same(tmp_path):
    first = facts_of(write_fits(tmp_path / "a.fits", FLAT))
    other = {
        "IMAGETYP": "FLAT", "INSTRUME": "Dunlin M24", "EXPOSURE": 6.49998, "ISO": 200, "BLKLEVEL": 30, "XBINNING": 1,
        "CCD-TEMP": -10.1, "DATE-OBS": "2026-10-18T22:00:00Z", "FILTER": "S2", "TELESCOP": "Heron 92", "ROTATOR": 91.2,
        "FOCPOS": 12140,
    }  # fmt: skip
    second = facts_of(write_fits(tmp_path / "b.fits", other))
    for name in (
        "kind",
        "camera",
        "gain",
        "offset",
        "filter_code",
        "angle",
        "focus",
        "utc",
        "night",
        "binning_x",
        "binning_y",
    ):
        assert getattr(first, name) == getattr(second, name), name
    assert nominal_exposure(second.exposure_s) == nominal_exposure(first.exposure_s) == 6.5


def test_a_value_that_is_no_number_is_complained_of_and_the_next_name_is_tried(tmp_path):
    facts = facts_of(write_fits(tmp_path / "x.fits", {**DARK, "EXPTIME": "abc"}))
    assert facts.exposure_s is None
    assert any("EXPTIME is 'abc'" in c for c in facts.complaints)
    assert "exposure" in lacking(facts)
    facts = facts_of(write_fits(tmp_path / "y.fits", {**DARK, "EXPTIME": "abc", "EXPOSURE": 300.0}))
    assert facts.exposure_s == 300.0
    facts = facts_of(write_fits(tmp_path / "z.fits", {**DARK, "EXPTIME": -5.0}))
    assert facts.exposure_s is None


def test_what_only_the_name_says(tmp_path):
    cards = {
        k: v for k, v in DARK.items() if k not in ("EXPTIME", "CCD-TEMP", "SET-TEMP", "GAIN", "IMAGETYP")
    }
    facts = facts_of(write_fits(tmp_path / "dark_300s_-10C_gain200_bin1_001.fits", cards))
    assert (facts.kind, facts.exposure_s, facts.sensor_temp_c, facts.gain) == (
        FrameKind.DARK,
        300.0,
        -10.0,
        200.0,
    )
    assert facts.origins["gain"] == "file name"
    assert values_in_name("NGC281_M33_12.fits") == {}


def test_a_name_that_says_another_kind_than_its_folder_is_believed_only_where_it_says_nothing_else(tmp_path):
    cards = {k: v for k, v in DARK.items() if k != "IMAGETYP"}
    horse = write_fits(tmp_path / "Dark Horse 001.fits", cards)
    among_lights = facts_of(horse, folders=("B 72", "Lights"))
    assert among_lights.kind is None
    assert among_lights.complaints == ("its name says dark, and its folder light",)
    assert facts_of(horse, folders=("darks",)).kind is facts_of(horse).kind is FrameKind.DARK
    stray = write_fits(tmp_path / "dark_300s_001.fits", cards)
    assert facts_of(stray, folders=("Lights",)).kind is FrameKind.DARK


def test_a_night_that_straddles_midnight_and_the_end_of_summer_time():
    for text in ("2026-10-18T12:30", "2026-10-18T22:59", "2026-10-19T00:30", "2026-10-19T10:30"):
        utc = datetime.fromisoformat(text).replace(tzinfo=UTC)
        assert night_of_utc(utc, LONDON) == date(2026, 10, 18), text
    # Clocks went back at 01:00 UTC on 25 October 2026 (EU summer time rule): one night all the same.
    for text in ("2026-10-24T20:00", "2026-10-25T00:30", "2026-10-25T01:30", "2026-10-25T11:30"):
        assert night_of_utc(datetime.fromisoformat(text).replace(tzinfo=UTC), LONDON) == date(2026, 10, 24), (
            text
        )
    denver = ZoneInfo("America/Denver")
    assert night_of_utc(datetime(2026, 10, 19, 8, tzinfo=UTC), denver) == date(2026, 10, 18)


def test_a_local_clock_alone_gives_the_night(tmp_path):
    cards = {k: v for k, v in DARK.items() if k != "DATE-OBS"} | {"DATE-LOC": "2026-10-19T01:12:00"}
    facts = facts_of(write_fits(tmp_path / "x.fits", cards))
    assert facts.night == date(2026, 10, 18)
    assert "local" in facts.night_from
    assert facts.utc == datetime(2026, 10, 19, 0, 12, tzinfo=UTC)


def test_angles_on_the_circle_and_across_the_meridian():
    assert angle_between(CameraAngle(359.8), CameraAngle(0.2)) == pytest.approx(-0.4)
    assert circular_mean([359.8, 0.2]) == pytest.approx(0.0, abs=1e-9)
    east, west = CameraAngle(12.1, "sky", "east"), CameraAngle(192.1, "sky", "west")
    assert angle_between(east, west) == pytest.approx(0.0)
    assert angle_between(east, CameraAngle(192.1, "sky")) is None, (
        "without the side of the pier it says nothing"
    )
    assert angle_between(east, CameraAngle(12.1)) is None, "sky and mechanical angles are not compared"


def members(tmp_path, cards_list):
    return [Member(i, facts_of(write_fits(tmp_path / f"{i}.fits", c))) for i, c in enumerate(cards_list)]


def test_sets_do_not_depend_on_the_order_and_split_where_the_camera_was_turned(tmp_path):
    cards = [{**LIGHT, "ROTATANG": a} for a in (359.9, 0.1, 0.3, 91.2, 91.3)]
    cards += [
        {**LIGHT, "INSTRUME": "Dunlin C14"},
        {**LIGHT, "EXPTIME": 180.0},
        {**DARK, "EXPTIME": 299.98},
        DARK,
    ]
    found = members(tmp_path, cards)
    expected = None
    for seed in range(6):
        random.Random(seed).shuffle(found)
        sets = sorted([sorted(m.frame_id for m in s) for s in group_into_sets(found)])
        expected = expected or sets
        assert sets == expected
    assert expected == [[0, 1, 2], [3, 4], [5], [6], [7, 8]]


def test_a_sensor_that_is_as_warm_as_the_night_stays_one_set_while_it_drifts_little(tmp_path):
    plain = {k: v for k, v in DARK.items() if k != "SET-TEMP"}
    found = members(tmp_path, [{**plain, "CCD-TEMP": t} for t in (17.4, 17.6, 18.2, 19.3, 21.6, 21.8)])
    assert [[m.frame_id for m in s] for s in group_into_sets(found)] == [[0, 1, 2, 3], [4, 5]]


@pytest.mark.parametrize(
    ("changes", "sizes"),
    [
        ({}, [4]),
        ({"kind": FrameKind.BIAS}, [4]),
        ({"kind": FrameKind.FLAT}, [4]),
        ({"kind": FrameKind.LIGHT}, [2, 2]),
        ({"exposure_s": 600.0}, [4]),
        # Each night has its own; a person's word for a night stands.
        ({"minutes": (-11, -5, 41, 47)}, [2, 2]),
        ({"night_before": date(2026, 10, 18)}, [1, 3]),
        ({"said": {"night": "2026-10-18"}}, [1, 3]),
    ],
)
def test_what_was_shot_in_one_go_over_noon_is_one_set_of_the_first_night(changes, sizes):
    noon = datetime(2026, 10, 18, 12, tzinfo=UTC)
    dark = FrameFacts(8, 8, 16, FrameKind.DARK, camera="C", exposure_s=300.0, gain=1.0)
    dark = replace(dark, **{k: v for k, v in changes.items() if k in ("kind", "exposure_s")})
    found = []
    for minutes in changes.get("minutes", (-11, -5, 1, 7)):
        at = noon + timedelta(minutes=minutes)
        found.append(replace(dark, utc=at, night=date(2026, 10, 17 if at < noon else 18)))
    found[2] = replace(found[2], **{k: v for k, v in changes.items() if k in ("night_before", "said")})
    sets = group_into_sets([Member(i, f) for i, f in enumerate(found)])
    assert sorted(len(s) for s in sets) == sizes
    first = next(s for s in sets if s[0].frame_id == 0)
    assert common_facts([m.facts for m in first]).night == date(2026, 10, 17)


@pytest.mark.parametrize(
    ("kind", "level", "noise", "shares"),
    [
        (FrameKind.DARK, 480.0 / 65_535, 4.0 / 65_535, True),
        (FrameKind.BIAS, 20.0 / 65_535, 1.0 / 65_535, True),
        (FrameKind.LIGHT, 0.6, 0.01, True),
        # What is taken off a flat has to be in its unit, too.
        (FrameKind.FLAT, 0.4, 0.003, True),
        # In ADU; of norm 1; a bias that is clipped at zero; one with its pedestal taken off; nothing in it.
        (FrameKind.DARK, 480.0, 4.0, False),
        (FrameKind.FLAT, 1.0, 0.003, False),
        (FrameKind.FLAT, 0.9, 0.003, False),
        (FrameKind.BIAS, 0.6, 0.1, False),
        (FrameKind.DARK, 0.0, 0.1, False),
        (FrameKind.DARK, np.nan, 1.0, False),
        (None, 0.01, 0.001, False),
    ],
)
def test_values_from_0_to_1_are_shares_where_a_frame_in_adu_would_not_have_them(kind, level, noise, shares):
    values = np.random.default_rng(5).normal(level, noise, (32, 40)).astype("f4")
    assert are_shares(kind, values) is shares


def test_masters_stand_alone_and_a_set_says_what_is_typical(tmp_path):
    masters = members(tmp_path, [{**DARK, "NCOMBINE": 50}, {**DARK, "NCOMBINE": 50}])
    assert [len(s) for s in group_into_sets(masters)] == [1, 1]
    lights = [
        m.facts
        for m in members(
            tmp_path / "l",
            [{**LIGHT, "CCD-TEMP": t, "FOCUSPOS": f} for t, f in ((-10.2, 1), (-10.0, 5), (-9.9, 9))],
        )
    ]
    common = common_facts(lights)
    assert common.sensor_temp_c == -10.0
    assert common.focus == 5


def test_letters_that_a_card_cannot_hold_are_written_without_their_marks(tmp_path):
    facts = FrameFacts(
        8,
        8,
        16,
        FrameKind.FLAT,
        camera="Dunlin M24",
        filter_code="Hα",
        telescope="Grüne 92\n",
        exposure_s=2.0,
    )
    with (tmp_path / "x.fits").open("wb") as stream:
        write_frame(stream, np.zeros((8, 8), np.uint16), frame_header(facts))
    again = facts_of(tmp_path / "x.fits")
    assert (again.filter_code, again.telescope) == ("Ha", "Grune 92")


def test_filters_and_names():
    assert [normal_filter(x) for x in ("H-alpha", "Lum", " SII ", "", "None", "Duo")] == [
        "Ha",
        "L",
        "SII",
        None,
        None,
        "Duo",
    ]
    assert safe_name("Hübsch: a/b?") == "Hubsch_a_b"
    assert safe_name("CON") == "CON_"
    facts = FrameFacts(10, 10, 16, FrameKind.FLAT, filter_code="SII", exposure_s=6.5, gain=200.0, offset=30.0)
    assert frame_stem(facts) == "flat_SII_6.5s_g200_o30_bin1"
    assert frame_stem(replace(facts, kind=FrameKind.DARK, set_temp_c=-10.0)).startswith("dark_6.5s_-10C")
    iso = replace(facts, gain=1600.0, offset=None, origins={"gain": "ISO"})
    assert frame_stem(iso) == "flat_SII_6.5s_ISO1600_bin1"
    assert values_in_name(frame_stem(iso))["gain"].value == 1600.0, "and it is read again"


def test_how_far_two_places_are_apart():
    """Against Astropy's angular separation, on a sphere of the same size."""
    ends = (
        (50.1, 8.7, -33.5, 151.05),
        (0.0, 179.9, 0.0, -179.9),
        (90.0, 0.0, -90.0, 30.0),
        (48.0, 11.0, 48.0, 11.0),
    )
    for north, east, other_north, other_east in ends:
        angle = angular_separation(*np.radians((east, north, other_east, other_north)))
        assert apart_km(Place(north, east), Place(other_north, other_east)) == pytest.approx(
            6378.137 * angle, abs=1e-6
        )


@pytest.mark.parametrize(
    ("zone", "longitude", "off_h"),
    [
        ("UTC", 151.0, 10.07), ("Europe/Berlin", -70.7, -6.71), ("Asia/Tokyo", -3.7, -9.2),
        # Clocks that are a place's own, the furthest from the sun and those beside the date line (IANA's time zones).
        ("Australia/Sydney", 151.2, None), ("Asia/Shanghai", 75.9, None), ("Europe/Madrid", -8.7, None),
        ("Pacific/Kiritimati", -157.4, None), ("Pacific/Fiji", 179.9, None), ("Pacific/Midway", -177.4, None),
    ],
)  # fmt: skip
def test_a_clock_that_cannot_be_the_places_own_is_told(zone, longitude, off_h):
    ahead = datetime(2026, 7, 1, tzinfo=ZoneInfo(zone)).utcoffset()
    found = clock_off_h(longitude, ahead)
    assert found is None if off_h is None else found == pytest.approx(off_h, abs=0.06)
