"""What a person says of a frame wins over its header and leaves no trace when taken back; names read by a pattern."""

from __future__ import annotations

import json
from datetime import UTC, date, datetime, timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.name_pattern import name_pattern
from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.facts import FILE_NAME, FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import site_zone
from grayshelf.core.frames.said import Saying, checked, in_words, unsaid, with_said
from grayshelf.library.catalog import Settling
from grayshelf.library.facts_json import facts_from_json, facts_to_json
from grayshelf.library.spellings import Spellings

ANY = st.builds(
    Saying,
    kind=st.none() | st.sampled_from(FrameKind),
    is_master=st.none() | st.booleans(),
    camera=st.none() | st.just("Heron 294M"),
    filter_code=st.none() | st.sampled_from(["L", "Ha"]),
    exposure_s=st.none() | st.floats(0, 3600),
    gain=st.none() | st.integers(0, 500).map(float),
    binning=st.none() | st.integers(1, 4),
    sensor_temp_c=st.none() | st.floats(-30, 30),
    angle_deg=st.none() | st.floats(0, 359),
    night=st.none() | st.dates(date(2020, 1, 1), date(2030, 1, 1)),
    clock_s=st.none() | st.integers(-90_000, 90_000).map(float),
    on=st.just(date(2026, 11, 29)),
)
READ = st.builds(
    FrameFacts,
    width=st.just(100),
    height=st.just(80),
    bits=st.just(16),
    kind=st.none() | st.sampled_from(FrameKind),
    camera=st.none() | st.sampled_from(["Heron 294M", "heron294"]),
    filter_code=st.none() | st.sampled_from(["L", "Luminosity"]),
    exposure_s=st.none() | st.floats(0, 3600),
    gain=st.none() | st.just(100.0),
    angle=st.none() | st.just(CameraAngle(12.0, "sky", "east")),
    utc=st.none()
    | st.datetimes(datetime(2024, 1, 1), datetime(2026, 1, 1)).map(lambda t: t.replace(tzinfo=UTC)),
    origins=st.sampled_from([{}, {"gain": FILE_NAME}]),
)
HERE = Settling(site_zone("America/Denver"), Spellings({("camera", "", "heron294"): "Heron 294M", ("filter", "Heron 294M", "Luminosity"): "L"}))  # fmt: skip


@settings(max_examples=300, deadline=None)
@given(READ, ANY, ANY)
def test_what_is_said_wins_and_taken_back_leaves_no_trace(read, saying, other):
    read = HERE.settle(read)
    said = HERE.settle(facts_from_json(facts_to_json(_with(read, saying))))
    for name in saying.says:
        value = getattr(saying, name)
        if name == "binning":
            assert (said.binning_x, said.binning_y) == (value, value)
        elif name == "angle_deg":
            assert said.angle == CameraAngle(value)
        elif name == "clock_s":
            assert said.utc == (read.utc and read.utc + timedelta(seconds=value))
        else:
            assert getattr(said, name) == value
    # Told again, told otherwise, kept in the database and back: always from what was read.
    assert HERE.settle(said) == said
    assert HERE.settle(_with(said, other)) == HERE.settle(_with(read, other))
    assert HERE.settle(facts_from_json(facts_to_json(_with(said, Saying())))) == read
    assert unsaid(with_said(read)) == read
    # A kind is one of ours, not only a word that reads alike.
    for kind in (
        said.kind,
        unsaid(with_said(_with(read, saying))).kind,
        Saying.from_plain(json.loads(json.dumps(saying.to_plain()))).kind,
    ):
        assert kind is None or isinstance(kind, FrameKind)


def test_what_is_said_is_marked_as_said_and_what_follows_from_it_is_not():
    read = FrameFacts(1, 1, 16, kind=FrameKind.LIGHT, gain=100.0, as_written={"camera": "heron294"})
    told = with_said(_with(read, Saying(kind=FrameKind.DARK, gain=100.0, is_master=True, camera="Heron", binning=2, on=date(2026, 11, 29))))  # fmt: skip
    assert set(told.origins) == {"kind", "camera", "binning"}, (
        "a gain that the header says, too, is the header's"
    )
    assert set(told.origins.values()) == {"said by hand, 29 Nov 2026"}


def _with(facts, saying):
    from dataclasses import replace

    return replace(facts, said=saying.to_plain() if saying.says else {})


def test_a_clock_put_right_moves_the_night_by_whatever_clock_it_was_counted():
    put_on = Saying(clock_s=3600.0)
    for ahead, kept in (
        (None, ""),
        (-7.0, "DATE-LOC (local clock)"),
        (-7.1, "DATE-OBS (UTC) and the place in the header"),
    ):
        # 18:30 UTC is 11:30 in Denver: before noon it still is the night before.
        utc = datetime(2026, 10, 18, 18, 30, tzinfo=UTC)
        read = FrameFacts(1, 1, 16, utc=utc, night=date(2026, 10, 17), night_from=kept, clock_ahead_h=ahead)
        told = HERE.settle(_with(HERE.settle(read), put_on))
        assert (told.utc, told.night) == (utc + timedelta(hours=1), date(2026, 10, 18)), kept
    assert HERE.settle(_with(read, Saying(night=date(2026, 1, 2)))).night == date(2026, 1, 2)


# Names as people and programs of several kinds write them (common practice, no source).
NAMES = {
    ("{kind}_{exposure}s_{temperature}C_gain{gain}_{number}", "Dark_300s_-10C_gain100_0012.fits"): Saying(kind=FrameKind.DARK, exposure_s=300.0, sensor_temp_c=-10.0, gain=100.0),
    ("{target}/{night}/{filter}/*", "Autumn/NGC 281/20261018/H-alpha/IMG_1.fit.fz"): Saying(target="NGC 281", night=date(2026, 10, 18), filter_code="Ha"),
    ("{kind}_{binning}_{angle}_{focus}", "FlatDark_2x2_91.5deg_12020.fits"): Saying(kind=FrameKind.DARK_FLAT, binning=2, angle_deg=91.5, focus=12020.0),
    ("ISO{gain}_{exposure}_*", "iso800_2min_3.tif"): Saying(gain=800.0, exposure_s=120.0),
    ("{kind}-{filter}-{exposure}", "Master Flat-R-250ms.xyz"): Saying(kind=FrameKind.FLAT, is_master=True, filter_code="R", exposure_s=0.25),
    ("{temperature}_{offset}_{night}", "m15_30_18.10.2026.fits"): Saying(sensor_temp_c=-15.0, offset=30.0, night=date(2026, 10, 18)),
    ("{kind}_{exposure}s_{temperature}_{gain}_{angle}", "暗場_0,5s_-10,5C_1,5_91,2deg.fits"): Saying(kind=FrameKind.DARK, exposure_s=0.5, sensor_temp_c=-10.5, gain=1.5, angle_deg=91.2),
    ("Nächte/{target}_*", "Na\u0308chte/M 31_1.fits"): Saying(target="M 31"),
    ("{camera}_{target}_{target}", "Heron_M 33_M 33.fits"): Saying(camera="Heron", target="M 33"),
}  # fmt: skip


@pytest.mark.parametrize(("pattern", "path"), NAMES)
def test_names_are_read(pattern, path):
    assert name_pattern(pattern).read(path).saying == NAMES[pattern, path]


def test_what_a_pattern_cannot_be_is_said_and_what_it_does_not_fit_is_left():
    wrong = {"{gian}": "There is no part", "{target}{filter}": "something has to stand", "{gain": "A brace stands alone",
             "abc_*": "Nothing is read", " ": "empty", "{gain}" * 30: "more than 24", "*_*_*_*_*_{target}": "any text"}  # fmt: skip
    for text, words in wrong.items():
        with pytest.raises(GrayShelfError, match=words):
            name_pattern(text)
    for pattern, path in (("{kind}_*", "Blob_1.fits"), ("{night}_*", "2026-13-40_1.fits"), ("{gain}_*", "x_1.fits"),
                          ("{temperature}_*", "-250_1.fits"), ("{target}/{gain}", "5.fits")):  # fmt: skip
        found = name_pattern(pattern).read(path)
        assert found.saying is None and found.why, pattern


def test_what_cannot_be_is_refused_before_anything_is_said():
    for saying, words in ((Saying(), "Nothing is said"), (Saying(gain=-1.0), "cannot be"), (Saying(sensor_temp_c=400.0), "cannot be"),
                          (Saying(angle_deg=1e9), "cannot be"), (Saying(camera="  "), "needs a name"), (Saying(binning=99), "cannot be"),
                          (Saying(night=date(1066, 1, 1)), "1066"), (Saying(clock_s=1e12), "more than a year")):  # fmt: skip
        with pytest.raises(GrayShelfError, match=words):
            checked(saying)
    kept = checked(
        Saying(
            filter_code=" H  alpha ", kind=FrameKind.DARK, gain=100.0, sensor_temp_c=-10.0, clock_s=-5400.0
        )
    )
    assert kept.filter_code == "Ha"
    assert in_words(kept) == "dark, filter Ha, gain 100, −10 °C, clock put back by 1 h 30 min"
