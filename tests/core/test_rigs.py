"""Rigs: the train drawn, what can be typed on its sheets, house rules, standard darks."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from grayshelf.core.errors import Conflict, GrayShelfError
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.model import Holding, SensorTraits, Tolerances
from grayshelf.core.matching.stock import Stock
from grayshelf.core.planning.standard_darks import missing_standards, set_ups_in_use
from grayshelf.core.rigs.addresses import read_address
from grayshelf.core.rigs.camera import CameraCard, camera_card
from grayshelf.core.rigs.cards import FilterCard, TelescopeCard, check_filters, differences
from grayshelf.core.rigs.house_rules import (
    RULES,
    FlatsWhen,
    HouseRules,
    changes_in_words,
    kept_of,
    rules_from,
    what_moves,
)
from grayshelf.core.rigs.train import (
    MovedBy,
    Origin,
    PartKind,
    SeenFilter,
    SeenTelescope,
    TrainFacts,
    asked,
    by_itself,
    draw_train,
)
from tests.helpers import settings

DRIVEN = TrainFacts(
    telescope="Heron 92", aperture_mm=92.0, focal_length_mm=506.0, light="Lumen tile", brightness=(18, 255),
    pulse_hz=240.0, diffusers=("cloth", "film"), curve_shots=9, telescopes=(SeenTelescope("Heron 92", 506.0, 125),),
    filters=(SeenFilter("L", 60, 550, 300), SeenFilter("Ha", 65, 656.3, 3)), angles_deg=(2.4, 91.3),
    focus=(11_985.0, 12_140.0), size=(6000, 4000), pixel_um=3.9, gains=(100.0, 200.0), offsets_checked=(100.0,), sample_step=4,
    device_gain_range=(0.0, 400.0),
    connected=True, drives=frozenset({PartKind.LIGHT, PartKind.FILTERS, PartKind.ROTATOR, PartKind.FOCUSER, PartKind.CAMERA}),
    device_cooled=True, below_air_c=35.0, device_wheel=("L", "Ha"), site="Hide", time_zone="Europe/London",
    latitude_deg=-52.95, longitude_deg=0.95,
)  # fmt: skip


def drawn(facts):
    return {part.kind: part for part in draw_train(facts)}


def told(part):
    return [(k.text, k.origin) for k in part.known]


def test_a_driven_train_stands_in_the_order_of_the_light_and_asks_for_what_no_device_does():
    parts = draw_train(DRIVEN)
    assert [p.kind.value for p in parts] == [
        "light", "cover", "telescope", "rotator", "filters", "focuser", "camera", "mount", "site",
    ]  # fmt: skip
    by_kind = drawn(DRIVEN)
    assert told(by_kind[PartKind.TELESCOPE]) == [
        ("92 mm f/5.5, 506 mm", Origin.HEADERS),
        ("named by 125 frames", Origin.HEADERS),
    ]
    assert told(by_kind[PartKind.LIGHT]) == [
        ("brightness 18 to 255", Origin.TYPED),
        ("pulses at 240 Hz", Origin.TYPED),
        ("cloth and film", Origin.TYPED),
        ("measured with 9 shots", Origin.BENCH),
    ]
    assert told(by_kind[PartKind.FILTERS]) == [
        ("L, Ha", Origin.TYPED),
        ("narrow: Ha", Origin.TYPED),
        ("a wheel of 2", Origin.DEVICE),
    ]
    assert told(by_kind[PartKind.CAMERA]) == [
        ("6,000 × 4,000, 3.9 µm, mono", Origin.HEADERS),
        ("cooled, 35 °C below the air", Origin.DEVICE),
        ("gain 100, 200", Origin.HEADERS),
        ("14 bits, levels step by 4", Origin.HEADERS),
        ("gain 0 to 400", Origin.DEVICE),
        ("offset checked at 100", Origin.BENCH),
    ]
    assert told(by_kind[PartKind.ROTATOR]) == [("2.4 to 91.3°", Origin.HEADERS)]
    assert told(by_kind[PartKind.FOCUSER]) == [("11,985 to 12,140 steps", Origin.HEADERS)]
    assert told(by_kind[PartKind.SITE])[0] == ("52.95° S, 0.95° E", Origin.TYPED)
    assert by_itself(parts) == [
        "sets the light’s brightness",
        "turns the camera",
        "brings filters in",
        "sets the focus",
        "shoots",
    ]
    assert asked(parts) == ["put the cap on and off", "point the telescope at the light"]


def test_of_a_rig_of_which_little_is_known_the_rest_are_outlines_and_hands_do_all():
    """Another program's headers: a camera and two filters, nothing of a focuser, a rotator or a light."""
    facts = TrainFacts(filters=(SeenFilter("clear", 3, typed=False), SeenFilter("V", 2, typed=False)))
    by_kind = drawn(facts)
    open_ones = {k for k, p in by_kind.items() if p.is_open}
    assert open_ones == {
        PartKind.LIGHT, PartKind.COVER, PartKind.ROTATOR, PartKind.FOCUSER, PartKind.MOUNT,
    }  # fmt: skip
    assert by_kind[PartKind.FILTERS].moved_by is MovedBy.HAND, "two filters are not one that stays"
    assert asked(draw_train(facts)) == [
        "bring a light, and say which",
        "put the cap on and off",
        "change filters",
        "shoot with the program that runs the camera",
        "point the telescope at the light",
    ]
    assert by_itself(draw_train(facts)) == []


def test_what_is_fixed_or_not_there_is_asked_of_nobody():
    """A consumer camera on a lens before a lit wall: no wheel, no rotator, no focuser."""
    said = {
        PartKind.ROTATOR: MovedBy.ABSENT,
        PartKind.FOCUSER: MovedBy.FIXED,
        PartKind.FILTERS: MovedBy.ABSENT,
    }
    lens = TrainFacts(
        telescope="60 mm", focal_length_mm=60.0, moved_by=said, light="wall", cooled=False, gains=(800.0, 1600.0),
        bayer_pattern="GRBG", size=(4200, 2800), angles_deg=(0.0, 12.0),
    )  # fmt: skip
    by_kind = drawn(lens)
    assert not any(by_kind[k].asks for k in said), "not even where a header told two angles"
    assert by_kind[PartKind.LIGHT].moved_by is MovedBy.FIXED and not by_kind[PartKind.LIGHT].asks
    texts = [text for text, _ in told(by_kind[PartKind.CAMERA])]
    assert texts == ["4,200 × 2,800, colour", "no cooler", "ISO 800, 1600"]


# -- sheets -----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("make", "says"),
    [
        (lambda: TelescopeCard(92.0, 0.0), "focal length must lie between 1"),
        (lambda: TelescopeCard(0.0, 500.0), "aperture must lie"),
        (lambda: TelescopeCard(500.0, 92.0), "f/0.184: no telescope is"),
        (lambda: FilterCard("Ha", centre_nm=6563.0), "656.3 nm"),
        (lambda: FilterCard("Ha", centre_nm=656.3, width_nm=0.0), "width must lie"),
        (lambda: FilterCard("  "), "needs a code"),
        (lambda: check_filters([FilterCard("Ha"), FilterCard(" ha ")]), "Two filters are called  ha "),
        (lambda: CameraCard(cooled=False, below_air_c=30.0), "without a cooler"),
        (lambda: CameraCard(shortest_s=-1.0), "shortest exposure lies above zero"),
        (lambda: CameraCard(pause_s=float("nan")), "pause between frames"),
        (lambda: CameraCard(shutter="leaf"), "A shutter is"),
        (lambda: HouseRules().changed({"dark_temps_c": [200.0]}), "Standard temperatures lie between"),
        (lambda: HouseRules().changed({"dark_exposures_s": range(1, 40)}), "Up to 24"),
        (lambda: HouseRules().changed({"no such": 1}), "no house rule"),
    ],
    ids=range(14),
)
def test_what_cannot_be_is_refused_in_a_sentence(make, says):
    with pytest.raises(GrayShelfError) as refused:
        make()
    assert says in f"{refused.value.message} {refused.value.advice}"


@pytest.mark.parametrize("rule", RULES, ids=lambda r: r.name)
def test_each_house_rule_is_held_at_both_ends_and_told_as_it_is_shown(rule):
    for fine in (rule.least, rule.most):
        assert HouseRules().changed({rule.name: fine}).value(rule.name) == fine
    for wrong in (
        rule.least - 1,
        rule.most * 1.01 + 1,
        float("nan"),
        *([rule.least + 0.5] if rule.whole else []),
    ):
        with pytest.raises(GrayShelfError):
            HouseRules().changed({rule.name: wrong})
    now = HouseRules().changed({rule.name: rule.most})
    (words,) = changes_in_words(HouseRules(), now)
    assert rule.told(rule.most) in words and rule.told(HouseRules().value(rule.name)) in words
    assert rule.told(0.1) == "10 %" if rule.name == "mismatch_share" else True


@given(
    st.fixed_dictionaries({rule.name: st.floats(rule.least, rule.most) for rule in RULES}),
    st.sampled_from(FlatsWhen),
    st.lists(st.floats(-40, 20), max_size=5),
)
def test_what_is_kept_of_house_rules_is_read_as_it_was_and_nonsense_is_left_out(numbers, when, temps):
    whole = {rule.name for rule in RULES if rule.whole}
    numbers = {name: int(v) if name in whole else v for name, v in numbers.items()}
    rules = HouseRules().changed({**numbers, "flats_when": when.value, "dark_temps_c": temps})
    assert rules_from(kept_of(rules)) == rules
    damaged = {**kept_of(rules), "dark_temp_c": "warm", "n_flats": -3, "flats_when": "never", "left over": 1}
    read = rules_from(damaged)
    assert read.tolerances.dark_temp_c == Tolerances().dark_temp_c and read.n_flats == 25
    assert read.n_darks == rules.n_darks


def test_when_flats_are_shot_brings_its_nights_and_a_chosen_number_counts_over_it():
    usual = HouseRules()
    stay = usual.changed({"flats_when": "once per set-up"})
    assert stay.tolerances.flat_nights == 14 and not stay.tolerances.train_stays_put
    assert usual.changed({"flats_when": "once per set-up", "flat_nights": 5}).tolerances.flat_nights == 5
    assert usual.changed({"flats_when": "when something moved"}).tolerances.train_stays_put
    assert stay.changed({"flats_when": "each night"}).tolerances == Tolerances()


def test_what_a_change_moves_is_counted_by_how_slips_end():
    before = {1: "fits", 2: "fits", 3: "fits with care", 4: "nothing fits"}
    moved = what_moves(before, {1: "fits with care", 2: "fits with care", 3: "fits", 4: "nothing fits"})
    assert [str(m) for m in moved] == [
        "2 slips would have ‘fits with care’ where they have ‘fits’ now",
        "1 slip would have ‘fits’ where it has ‘fits with care’ now",
    ]


def test_a_camera_is_read_from_what_is_kept_and_its_own_figures_count():
    card = camera_card({"read_noise_e": 1.6, "shutter": "velvet", "drop_first": 3, "cooled": True, "old": 1})
    assert (card.read_noise_e, card.shutter, card.drop_first) == (1.6, None, 3)
    assert card.sensor().read_noise_e == 1.6 and card.sensor().dark_assumed, (
        "of its dark current nobody said anything"
    )
    assert not replace(card, hot_rate_e_s=0.2).sensor().dark_assumed
    # Usual figures are those of −10 °C: beside a dark current measured in the warm they would make the hottest pixels cheap.
    warm = CameraCard(dark_rate_e_s=0.5, dark_rate_at_c=20.0).sensor()
    assert (warm.dark_rate_at_c, warm.hot_rate_e_s) == (20.0, pytest.approx(25.0))
    hot = CameraCard(hot_rate_e_s=25.0, dark_rate_at_c=20.0).sensor()
    assert hot.dark_rate_e_s == pytest.approx(0.5) and hot.dark_rate_at_c == 20.0
    assert CameraCard(dark_rate_at_c=20.0).sensor() == SensorTraits(), "a temperature of nothing"
    held = CameraCard(cooled=True, below_air_c=30.0)
    assert held.can_hold(-17.0, 15.0) and not held.can_hold(-17.1, 15.0) and held.can_hold(-60.0, None)
    assert CameraCard().can_hold(-60.0, 15.0), "nobody said how far"
    assert CameraCard(shortest_s=0.5, shutter="slow").exposures().shutter == "slow"


def test_a_change_of_filters_is_told_filter_by_filter():
    one = {"code": "L", "centre_nm": 550.0}
    two = {"code": "V", "centre_nm": 540.0}
    before = {"filters": [one, two]}
    assert differences(before, {"filters": [two, {**one, "centre_nm": 545.0}]}) == [
        "L: centre 545 nm (550 nm before)"
    ]
    assert differences(before, {"filters": [two, one]}) == ["in the order V, L"]
    assert differences(before, {"filters": [two]}) == ["L taken out"]


# -- standard darks ---------------------------------------------------------------------------------------------


def dark(**changes):
    return Holding("d", FrameKind.DARK, settings(telescope=None, filter_code=None, focus=None, **changes), 30)


def test_standard_darks_are_those_that_no_dark_on_the_shelf_stands_for():
    rules = HouseRules().changed({"dark_temps_c": [-10, 0], "dark_exposures_s": [300]})
    lights = [settings(), settings(gain=100.0), settings(gain=None)]
    ups = set_ups_in_use(lights)
    assert [w.gain for w in ups] == [100.0, 200.0], "the newest first; a gain that nobody knows is none"

    def missing(*holdings, terms=Terms()):
        found = missing_standards(rules, lights, Stock(holdings), terms)
        return {(w.gain, w.sensor_temp_c) for w in found}

    assert missing() == {(100.0, -10.0), (100.0, 0.0), (200.0, -10.0), (200.0, 0.0)}
    assert missing(dark(sensor_temp_c=-10.4)) == {(100.0, -10.0), (100.0, 0.0), (200.0, 0.0)}
    narrow = replace(Terms(), tolerances=replace(Tolerances(), dark_temp_c=0.1, mismatch_share=0.0))
    assert (200.0, -10.0) in missing(dark(sensor_temp_c=-10.4), terms=narrow)
    assert (200.0, -10.0) not in missing(dark(night=date(2021, 1, 1))), (
        "an old one asks for care, and is there"
    )
    assert missing_standards(HouseRules(), lights, Stock(), Terms()) == []


@pytest.mark.parametrize(("bits", "shifted", "white"), [
    (12, True, 65_520), (14, True, 65_532), (16, True, 65_535), (12, False, 4_095), (14, False, 16_383), (None, True, None), (12, None, None),
])  # fmt: skip
def test_the_white_level_follows_from_the_converter_and_how_its_bits_are_shifted(bits, shifted, white):
    """12 bits moved up to fill 16 end at 65,520 and step by 16 (common practice)."""
    assert CameraCard(bits=bits, shifted=shifted).white_adu == white
    assert CameraCard(offset_lowest=0, offset_highest=80).offset_range == (0, 80)
    assert CameraCard(offset_lowest=0).offset_range is None
    for wrong in (
        {"bits": 7},
        {"bits": 17},
        {"offset_lowest": 9, "offset_highest": 9},
        {"offset_lowest": -1},
    ):
        with pytest.raises(GrayShelfError):
            CameraCard(**wrong)


@pytest.mark.parametrize(
    "typed",
    ["[", "http://[::1", "//[x]", "http://a]b", "ℂ℀", "http://..", "10.0.0.7:99999", "ftp://a", "a/b", ""],
)
def test_what_is_no_address_is_refused_in_words(typed):
    with pytest.raises(Conflict) as refused:
        read_address(typed)
    assert refused.value.advice


def test_an_address_is_told_whole():
    assert read_address(" Dome.local ") == "http://dome.local:11111"
    # RFC 3986, section 3.2.2: a number of version 6 stands in brackets.
    assert read_address("[FE80::1]:80") == "http://[fe80::1]:80"
