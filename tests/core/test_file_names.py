"""What a file's name says without doubt; names made up here after habits seen in many programs."""

from __future__ import annotations

import unicodedata
from zoneinfo import ZoneInfo

import pytest

from grayshelf.core.frames.file_names import (
    counters_among,
    kind_in_name,
    names_a_master,
    values_in_name,
    without_gear,
)
from grayshelf.core.frames.fits_blocks import ImageHeader
from grayshelf.core.frames.folder_names import kind_of_folder, kind_of_folders
from grayshelf.core.frames.headers import read_facts
from grayshelf.core.frames.kinds import FrameKind, parse_kind
from grayshelf.core.frames.targets import target_in_name, target_of_folders


def values(name):
    return {what: found.value for what, found in values_in_name(name).items()}


@pytest.mark.parametrize(
    ("name", "said"),
    [
        ("dark_300s_-10C_gain100_bin1.fits", {"exposure_s": 300, "sensor_temp_c": -10, "gain": 100, "binning": 1}),
        ("Bias_Gain_56_Offset_10_0001.fit.gz", {"gain": 56, "offset": 10}),
        ("IMG-ISO800-120sec-14.5C-0042.fits.fz", {"gain": 800, "exposure_s": 120}),
        ("flat_gain_0003.fits", {}), ("gain0.fits", {"gain": 0}), ("x_gain_0000.fits", {}),
        ("M31_G_0003.fits", {}), ("LIGHT_G_120s.fits", {"exposure_s": 120}), ("G100_0001.fits", {}),
        ("IC1396C_Ha.fits", {}), ("dark-10C.fits", {}), ("dark--10C.fits", {"sensor_temp_c": -10}), ("dark 10C.fits", {"sensor_temp_c": 10}),
        ("gain100_gain200.fits", {}), ("bin0002.fits", {}), ("again100.fits", {}), ("cutoff_30.fits", {}),
        ("dark_60000ms_gain200.tif", {"exposure_s": 60, "gain": 200}), ("flat_300_secs-iso800.dng", {"exposure_s": 300, "gain": 800}),
        ("dark_1s_1ms.fits", {}), ("M31_001_s.fits", {}), ("dark_2.5s", {"exposure_s": 2.5}),
        ("0.5s_flat.fits", {"exposure_s": 0.5}), ("offset.fits", {}), ("", {}),
        # A sixtieth of a second, or a half, as no name can write it; a count or a binning before it is neither.
        ("flat_1-60s.tif", {}), ("1_250s flat.dng", {}), ("flat 0-5s.fits", {}), ("0001-60s.fits", {"exposure_s": 60}),
        ("bin_1_300s.fits", {"exposure_s": 300, "binning": 1}), ("Dark 10min 0001.fits", {"exposure_s": 600}),
        ("dark_2_minutes.fits", {"exposure_s": 120}), ("dark_2min_120s.fits", {}),
    ],
)  # fmt: skip
def test_a_word_and_its_number_count_and_nothing_else(name, said):
    assert values(name) == said


def test_what_the_gear_is_called_is_no_value():
    name = "Light_300.0s_Bin1_26C_gain100_-10.0C_0001.fit"
    assert "sensor_temp_c" not in values(name), "which of the two is not known"
    told = {what: v.value for what, v in values_in_name(without_gear(name, "Plover 26 C", None)).items()}
    assert told == {"exposure_s": 300, "gain": 100, "binning": 1, "sensor_temp_c": -10}
    assert values(without_gear("dark_26C_60s.fit", "Plover 26C", "Astrograph")) == {"exposure_s": 60}
    assert without_gear("dark_26C_60s.fit", "Heron 10", None) == "dark_26C_60s.fit"
    assert target_in_name(without_gear("M24_L_0001", "Dunlin M24")) is None
    assert without_gear("a1a1_bias_1.fits", "a1" * 2_000) == "_bias_1.fits", (
        "and however long a header is, at once"
    )


@pytest.mark.parametrize(
    ("name", "target"),
    [
        ("Light_IC1396_300.0s_Bin1_0001", "IC 1396"), ("M31-L-0003", "M 31"), ("m 31 120s", "M 31"), ("2026-10-04_NGC_7000_Ha", "NGC 7000"),
        ("sh2-101 SII", "Sh2-101"), ("L_M31_M31", "M 31"), ("lights_abell85_1", "Abell 85"),
        ("M81_M82_0001", None), ("bin1_M200_0001", None), ("IC1396A_001", None), ("cam20_0001", None), ("HIC 44_1", None), ("M_0031", None), ("L_M_31_2", None),
        ("M31.5s", None), ("IMG_1042", None), ("", None),
    ],
)  # fmt: skip
def test_an_object_of_a_catalogue_in_a_lights_name_is_its_target(name, target):
    assert target_in_name(name) == target


def test_a_folder_of_one_kind_may_name_its_filter_and_settings():
    told = {
        "Ha flats": FrameKind.FLAT, "flats_R": FrameKind.FLAT, "Lights OIII 300s": FrameKind.LIGHT, "dark flats L": FrameKind.DARK_FLAT,
        "Darks_G100_O30_-10C": FrameKind.DARK, "BIAS_G100": FrameKind.BIAS, "Dark B33": None, "dark L 1622": None,
        "flat earth": None, "darks-old": None, "light pollution": None, "Dark library": FrameKind.DARK,
        "Darks for flats": FrameKind.DARK_FLAT, "lightframes": FrameKind.LIGHT, "Flat-Field": FrameKind.FLAT, "Darkfield": FrameKind.DARK,
        "T-shirt flats": FrameKind.FLAT, "sky_flats_Ha": FrameKind.FLAT, "FLAT_L_2x2": FrameKind.FLAT, "Darks 2x3": None, "sky darks": None,
        "M31_lights": FrameKind.LIGHT, "Lights NGC 7000": FrameKind.LIGHT, "Dark M31": None, "Lights of M31": None, "flat top": None,
        # Bias frames are called so, too; with a number it is the setting.
        "Offsets": FrameKind.BIAS, "offset iso800": FrameKind.BIAS, "Offset 30": None, "offset_10_gain_100": None, "offset test": None,
        "Zeros": FrameKind.BIAS, "zero_g100": FrameKind.BIAS, "zero gravity": None, "superbias": FrameKind.BIAS,
    }  # fmt: skip
    assert {name: kind_of_folder(name)[0] for name in told} == told


@pytest.mark.parametrize(
    ("path", "kind"),
    [
        ("2026-10-10/Lights/NGC 7000/Ha", (FrameKind.LIGHT, False)), ("Darks/ISO1600/180s", (FrameKind.DARK, False)),
        ("Flats/2026-10-10", (FrameKind.FLAT, False)), ("Lights/Dark nebula B33", (FrameKind.LIGHT, False)),
        ("Darks/Masters", (FrameKind.DARK, True)), ("Flats/Dark flats/L", (FrameKind.DARK_FLAT, False)),
        ("Flats/Darks", (FrameKind.DARK_FLAT, False)), ("Flats/2026-10-10/darks_ISO800", (FrameKind.DARK_FLAT, False)),
        ("Calibration/Offsets/ISO 800", (FrameKind.BIAS, False)),
        # What was made of lights; what may be of either; too far up; a place and no kind.
        ("Lights/M 31/stacked", (None, False)), ("Lights/Calibrated", (None, False)), ("Darks/flats and darks", (None, False)),
        ("Lights/a/b/c/d", (None, False)), ("Dark Sky Park/M 31", (None, False)), ("M 31/Ha", (None, False)),
    ],
)  # fmt: skip
def test_the_nearest_folder_that_is_named_for_a_kind_says_it(path, kind):
    assert kind_of_folders(list(reversed(path.split("/")))[:4]) == kind


@pytest.mark.parametrize("form", ["NFC", "NFD"])
def test_kinds_are_read_as_other_tongues_call_them(form):
    """Words of the trade wherever they stand, everyday words only as what a folder is called. From memory, no source."""
    in_names = {
        "ダーク_300s_-10C_001.fits": FrameKind.DARK,
        "フラットダーク 1s.tif": FrameKind.DARK_FLAT,
        "トワイライト_001.dng": None,
        "トワイライトフラット_001.dng": FrameKind.FLAT,
        "IC434_ライト_0001.dng": FrameKind.LIGHT,
        "暗场300s_0001.fits": FrameKind.DARK,
        "暗平场_0001.fits": FrameKind.DARK_FLAT,
        "暗星云_0001.fits": None,
        "偏置_0001.fits": FrameKind.BIAS,
        "Дарки 300с.fits": FrameKind.DARK,
        "다크_001.tif": FrameKind.DARK,
        "Sable_noir_001.fit": None,
    }
    in_folders = {
        "Noirs 300s": FrameKind.DARK,
        "PLU_Ha": FrameKind.FLAT,
        "Brutes": FrameKind.LIGHT,
        "Dunkelbilder -10C": FrameKind.DARK,
        "Weißbilder G": FrameKind.FLAT,
        "Noir de PLU": FrameKind.DARK_FLAT,
        "Nébuleuse du Noir": None,
        "Luz de luna": None,
        "平場": FrameKind.FLAT,
    }
    assert {n: kind_in_name(unicodedata.normalize(form, n))[0] for n in in_names} == in_names
    assert {n: kind_of_folder(unicodedata.normalize(form, n))[0] for n in in_folders} == in_folders
    assert kind_in_name(unicodedata.normalize(form, "マスターダーク_300s.fits")) == (FrameKind.DARK, True)
    assert parse_kind("NOIR") == (FrameKind.DARK, False) and parse_kind("Noir et blanc")[0] is None


def test_a_target_is_read_from_a_folder_only_by_its_number_in_a_catalogue():
    told = {
        "M31": "M 31", "m 31 Andromeda": "M 31", "2026-10-10_NGC7000": "NGC 7000", "sh2-101 tulip": "Sh2-101", "SH2_155": "Sh2-155",
        "IC_1396": "IC 1396", "vdB 141": "vdB 141", "Messier 33": "M 33",
        "Dunlin M24": None, "M2": "M 2", "M31b": None, "M 0": None, "mosaic 1": None, "IC": None, "Lights": None, "ic1.5": None, "": None,
    }  # fmt: skip
    assert {name: target_of_folders([name]) for name in told} == told
    assert target_of_folders(["Ha", "Lights", "NGC 281"]) == "NGC 281"


def test_a_number_that_grows_from_file_to_file_is_a_counter():
    growing = [f"flat_gain_{i}.fits" for i in (3, 4, 5, 7, 8)]
    assert counters_among(growing) == {name: frozenset({"gain"}) for name in growing}
    masters = [f"master_dark_gain_{g}_60s.fits" for g in (0, 100, 200, 300)]
    assert counters_among(masters) == {}
    series = [f"dark_gain_100_{i:03d}.fits" for i in range(20)]
    assert counters_among(series) == {}
    ladder = [f"bias_offset{o}_{i}.fits" for o in (10, 20, 30) for i in range(3)]
    assert counters_among(ladder) == {}


@pytest.mark.parametrize(
    ("name", "kind"),
    [
        ("master_dark_300s.fits", (FrameKind.DARK, True)), ("Flat-Dark_002.fits", (FrameKind.DARK_FLAT, False)),
        ("gain100_offset30_0001.fits", (None, False)), ("biases_01.fits", (FrameKind.BIAS, False)),
        ("darks_and_flats.fits", (None, False)), ("darkness.fits", (None, False)), ("LIGHTS_M31.fits", (FrameKind.LIGHT, False)),
        ("object_12.fits", (None, False)), ("zero001.fits", (FrameKind.BIAS, False)), ("Superdark-300s.fits", (FrameKind.DARK, False)),
        ("gain_zero_300s.fits", (None, False)), ("dark_gain_zero.fits", (FrameKind.DARK, False)), ("zeroed.fits", (None, False)),
        ("zeros_gain100_-10C_003.fits", (FrameKind.BIAS, False)), ("zero gravity 001.fits", (None, False)),
    ],
)  # fmt: skip
def test_the_kind_is_read_from_a_name_only_where_it_says_one(name, kind):
    assert kind_in_name(name) == kind


@pytest.mark.parametrize(
    ("name", "folder", "whole", "says"),
    [
        ("MasterDark_300s_-10C_g100.fits", "x", True, True),
        ("master_bias_g100.fit", "x", True, True),
        ("Master Flat Ha.fits", "x", False, True),
        ("flat-Ha-master.fits", "x", False, True),
        ("superdark.fits", "darks", False, True),
        ("superbias_g100.fits", "bias", False, True),
        ("superflat_007.fits", "x", True, False),
        ("stack of 40 darks 300s.fits", "x", False, True),
        ("dark 300s mean.fits", "x", False, True),
        ("dark_300.fits", "Masters", False, True),
        ("mdark 180s -10 g100.fit", "x", True, True),
        ("mflat_0001.fits", "x", True, False),
        ("mflat_Duo_2026-08-20.fits", "x", True, True),
        ("Camdark 300s.fits", "x", False, False),
        # As the camera gave them; counted; a telescope; one light's own calibrated flat.
        ("dark_300.fits", "Masters", True, False),
        ("master_dark_001.fits", "x", True, False),
        ("SkyMaster_dark_12.fit", "x", True, False),
        ("superdark.fits", "x", True, False),
        ("flat_001_c.fits", "stacks", False, False),
        ("dark_meander.fits", "x", False, False),
    ],
)
def test_names_of_masters_say_so_without_doubt(name, folder, whole, says):
    """Common practice, no source: programs that combine leave IMAGETYP as it was and name the file."""
    assert names_a_master(name, (folder,), whole=whole) is says


@pytest.mark.parametrize(
    ("name", "is_master"),
    [
        ("master_dark_180.fits", True),  # its exposure
        ("MasterBias_gain_100.fits", True),
        ("master_dark_180s_-10.fits", True),
        ("masterflat_L_20261018.fits", True),
        ("master_dark_181.fits", False),
        ("master_dark_0180.fits", False),
        ("master_dark_20.fits", False),
        ("dark_180.fits", False),
    ],
)
def test_a_number_that_is_a_setting_of_the_frame_counts_no_frames(name, is_master):
    """16 bits, as some programs keep what they combined; the header says 'Dark Frame' (common practice, no source)."""
    header = {"IMAGETYP": "Dark Frame", "EXPTIME": 180.0, "GAIN": 100, "SET-TEMP": -10.0, "OFFSET": 30}
    facts = read_facts(ImageHeader(header, 80, 60, 16, 0, 2880, 9600, False), name, ZoneInfo("UTC"))
    assert facts.is_master is is_master
