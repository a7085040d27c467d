"""What is not known, what costs little, and what a person said: on rigs and habits that are not the demo's."""

from __future__ import annotations

import math
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import pytest
from hypothesis import assume, given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.capped_levels import with_levels_held
from grayshelf.core.matching.judge import Terms, judge_dark
from grayshelf.core.matching.match import choose, pull_slip
from grayshelf.core.matching.model import (
    CommonSettings,
    Holding,
    LightsNoise,
    RigSays,
    SensorTraits,
    Tolerances,
    TrainEvent,
    Verdict,
)
from grayshelf.core.matching.newer import same_train
from grayshelf.core.matching.stock import Role, Stock, Wanted

NIGHT = date(2025, 3, 9)
#: Lights of a cooled mono camera on a telescope with a reducer, every setting known.
WANT = CommonSettings(
    "Curlew 16", 400, 300, (1, 1), read_mode="normal", row_order="TOP-DOWN", gain=56.0, offset=10.0,
    exposure_s=240.0, sensor_temp_c=-15.0, held=True, telescope="Avocet 8", focal_length_mm=700.0, filter_code="Ha",
    angle=CameraAngle(120.0), focus=5_000.0, night=NIGHT, taken=datetime(2025, 3, 10, 2, tzinfo=UTC),
)  # fmt: skip
ORDER = [Verdict.FITS, Verdict.CARE, Verdict.NOTHING]


def flat(key, n=30, want=WANT, **changes):
    return Holding(key, FrameKind.FLAT, replace(want, exposure_s=3.0, **changes), n)


def dark(key, n=40, want=WANT, **changes):
    return Holding(key, FrameKind.DARK, replace(want, **changes), n)


def line(kind, *holdings, want=WANT, terms=Terms()):
    return next(x for x in pull_slip(want, holdings, terms).lines if x.kind is kind)


def test_an_unnamed_filter_is_the_last_resort_and_is_always_said():
    named = flat("old", n=8, night=NIGHT - timedelta(days=300), taken=None, gain=0.0)
    unnamed = flat("unnamed", n=200, filter_code=None)
    found = line(FrameKind.FLAT, unnamed, named)
    assert found.chosen.holding.key == "old", "the right filter, though old, of few frames and another gain"
    assert "filter is not known" in found.lost_on[0]
    alone = line(FrameKind.FLAT, unnamed)
    assert (alone.verdict, alone.chosen.reasons) == (Verdict.CARE, ("filter is not known",))
    other_gain = line(FrameKind.FLAT, flat("x", filter_code=None, gain=0.0, angle=None))
    assert {"filter is not known", "gain 0, not 56", "angle is not known"} <= set(other_gain.chosen.reasons)
    colour = replace(WANT, bayer_pattern="RGGB", filter_code="Duo")
    assert line(FrameKind.FLAT, flat("c", want=colour, filter_code=None), want=colour).verdict is Verdict.CARE


@pytest.mark.parametrize("name", ["filter_code", "gain", "angle", "focus", "telescope", "focal_length_mm"])
def test_known_to_be_right_stands_before_unknown_whatever_age_or_count(name):
    known = flat("known", n=5, night=NIGHT - timedelta(days=200), taken=None)
    unknown = flat("unknown", n=100, **{name: None})
    found = line(FrameKind.FLAT, known, unknown)
    assert found.chosen.holding.key == "known"
    assert "not known" in found.lost_on[0]


def test_a_reducer_makes_another_train_unless_the_person_says_that_it_is_one():
    bare = flat("bare", focal_length_mm=1000.0)
    found = line(FrameKind.FLAT, bare)
    assert found.verdict is Verdict.NOTHING
    assert "focal length 1000 mm, not 700 mm" in found.lost_on[0]
    assert [q.quantity for q in pull_slip(WANT, [bare]).questions] == ["telescope"]
    one_train = Terms(says=RigSays(frozenset({"telescope"})))
    assert line(FrameKind.FLAT, bare, terms=one_train).verdict is Verdict.FITS
    assert line(FrameKind.FLAT, flat("jitter", focal_length_mm=712.0)).verdict is Verdict.FITS
    unsaid = replace(WANT, focal_length_mm=None)
    assert line(FrameKind.FLAT, flat("a"), want=unsaid).verdict is Verdict.FITS, (
        "one reducer, as far as is known"
    )
    both = line(FrameKind.FLAT, flat("a"), bare, want=unsaid)
    assert both.verdict is Verdict.CARE
    assert "focal length is not known" in both.chosen.reasons


def test_what_no_frame_tells_is_asked_once_and_the_answer_is_kept():
    mute = replace(WANT, angle=None, focus=None)
    shelf = [flat("f", want=mute), dark("d")]
    slip = pull_slip(mute, shelf)
    assert slip.verdict is not Verdict.FITS
    assert [q.quantity for q in slip.questions] == ["angle", "focus"]
    fixed = Terms(says=RigSays(frozenset({"angle", "focus"})))
    assert line(FrameKind.FLAT, *shelf, want=mute, terms=fixed).verdict is Verdict.FITS
    moves = Terms(says=RigSays(frozenset({"focus"}), frozenset({"angle"})))
    found = pull_slip(mute, shelf, moves)
    assert found.lines[1].chosen.reasons == ("angle is not known",)
    assert not any(q.quantity in ("angle", "focus") for q in found.questions), "nobody is asked twice"
    one_sided = pull_slip(WANT, [flat("f", angle=None)])
    assert not one_sided.questions, "lights that tell their angle come from a camera that turns"


@pytest.mark.parametrize("kind", [FrameKind.DARK, FrameKind.FLAT])
def test_values_from_a_name_only_ask_for_care_and_stand_behind_those_from_a_header(kind):
    make = {FrameKind.DARK: dark, FrameKind.FLAT: flat}[kind]
    named = make("named", n=200, from_name=frozenset({"gain"}))
    found = line(kind, named)
    assert found.verdict is Verdict.CARE
    assert "gain 56 is only from a file’s name" in found.chosen.reasons
    assert line(kind, named, make("header", n=10)).chosen.holding.key == "header"


# -- cost ----------------------------------------------------------------------------------------------------------

TRAITS = SensorTraits(
    read_noise_e=2.0, dark_rate_e_s=0.002, dark_rate_at_c=-15.0, hot_rate_e_s=0.1, dark_assumed=False
)


def warmer(exposure_s, background_e, off_c=3.3, n=100):
    want = replace(WANT, exposure_s=exposure_s)
    terms = Terms(traits=TRAITS, lights=LightsNoise(30, background_e))
    return judge_dark(want, dark("d", n=n, want=want, sensor_temp_c=-15.0 + off_c), terms)


def test_a_dark_beyond_its_tolerance_is_weighed_by_what_it_costs():
    short = warmer(10.0, 25.0)
    assert short.verdict is Verdict.CARE
    assert "temperature off by +3.3 °C: costs" in short.reasons[0]
    assert "% of the lights’ own noise" in short.reasons[0]
    # D·t·(2^(ΔT/6) − 1), of the usual pixel (common practice).
    assert short.mismatch_e == pytest.approx(0.002 * 10 * (2 ** (3.3 / 6) - 1))
    long = warmer(300.0, 25.0)
    assert long.verdict is Verdict.NOTHING
    assert "hottest 0.1 %" in long.reasons[0]
    assert warmer(10.0, None).verdict is Verdict.NOTHING, (
        "against the sensor's own noise, where no sky is known"
    )
    assert "usual figures" in judge_dark(WANT, dark("d", sensor_temp_c=-11.0), Terms()).reasons[0]


@hypothesis_settings(max_examples=200)
@given(
    st.floats(0.5, 1200.0), st.floats(2.0, 200.0), st.floats(-12.0, 12.0), st.integers(3, 200), st.floats(0.0, 600.0)
)  # fmt: skip
def test_the_verdict_beyond_a_tolerance_follows_a_tenth_of_the_lights_noise(
    exposure, background, off_c, n, other
):
    """Reckoned anew here: mismatch of the hottest 0.1 % and noise together, against a tenth of the background's."""
    assume(abs(abs(off_c) - 1.0) > 1e-6)
    found = warmer(exposure, background, off_c, n)
    hot = abs(0.1 * exposure * (2 ** (off_c / 6) - 1))
    noise = math.sqrt((4.0 + 0.002 * exposure) / n)
    own = max(background, math.sqrt(4.0 + 0.002 * exposure))
    share = math.hypot(hot, noise) / own
    assume(abs(share - 0.1) > 1e-6)
    if abs(off_c) > 1.0:
        assert (found.verdict is Verdict.NOTHING) == (share > 0.1)
    else:
        assert found.verdict is not Verdict.NOTHING


@pytest.mark.parametrize(("sky_e", "n", "percent"), [(1000.0, 10, 14), (50.0, 10, 0.6), (1000.0, 40, 4)])
def test_few_flats_ask_for_care_by_what_they_cost(sky_e, n, percent):
    """The guide's worked numbers: sixty lights, 20,000 e⁻ a flat, ten flats: 14 % at 1,000 e⁻ of sky, 0.6 % at 50."""
    quiet = SensorTraits(read_noise_e=0.1, dark_rate_e_s=0.0)
    terms = Terms(traits=quiet, lights=LightsNoise(60, math.sqrt(sky_e)))
    found = line(FrameKind.FLAT, replace(flat("f", n=n), signal_e=20_000.0), terms=terms)
    if percent > 10:
        assert (
            f"only {n} frames: they add {percent} % to the noise of these 60 lights" in found.chosen.reasons
        )
    else:
        assert found.verdict is Verdict.FITS, "few, and enough"


@hypothesis_settings(max_examples=100)
@given(
    st.sampled_from([FrameKind.DARK, FrameKind.FLAT]),
    st.integers(1, 60),
    st.floats(1.0, 100.0),
    st.integers(1, 400),
)
def test_adding_a_frame_never_worsens_a_verdict(kind, n, background, lights):
    terms = Terms(traits=TRAITS, lights=LightsNoise(lights, background))
    make = {FrameKind.DARK: dark, FrameKind.FLAT: flat}[kind]
    for master in (True, False):
        verdicts = [
            line(kind, replace(make("x", n=k), is_master=master), terms=terms).verdict for k in (n, n + 1)
        ]
        assert ORDER.index(verdicts[1]) <= ORDER.index(verdicts[0])


# -- what holds for any shelf ------------------------------------------------------------------------------------

NEAR = {
    "filter_code": ["Ha", None],
    "telescope": ["Avocet 8", "AVOCET8", None],
    "focal_length_mm": [700.0, 705.0, None],
    "gain": [56.0, 0.0, None],
    "offset": [10.0, 30.0, None],
    "angle": [CameraAngle(120.0), CameraAngle(120.7), CameraAngle(300.0, "sky"), None],
    "focus": [5_000.0, 5_100.0, None],
    "binning": [(1, 1), None],
    "read_mode": ["normal", None],
    "row_order": ["TOP-DOWN", None],
    "night": [NIGHT, NIGHT - timedelta(days=1), NIGHT - timedelta(days=90), None],
}
DARK_NEAR = {
    k: [v for v in values if k not in ("gain", "offset") or v in (getattr(WANT, k), None)]
    for k, values in NEAR.items()
    if k not in ("filter_code", "telescope", "focal_length_mm", "angle", "focus")
} | {
    "exposure_s": [240.0, 241.0, None],
    "sensor_temp_c": [-15.0, -14.3, None],
    "gain": [56.0, None],
    "offset": [10.0, None],
}


@hypothesis_settings(max_examples=300)
@given(st.data(), st.sampled_from([FrameKind.DARK, FrameKind.FLAT]))
def test_taking_a_known_value_away_never_improves_a_place(data, kind):
    choices = {FrameKind.DARK: DARK_NEAR, FrameKind.FLAT: NEAR}[kind]
    make = {FrameKind.DARK: dark, FrameKind.FLAT: flat}[kind]
    draw = {name: st.sampled_from(values) for name, values in choices.items()}
    shelf = [
        make(str(i), n=data.draw(st.sampled_from([4, 20, 100])), **{k: data.draw(v) for k, v in draw.items()})
        for i in range(4)
    ]
    hidden = dict.fromkeys(
        data.draw(st.lists(st.sampled_from(["angle", "focus", "read_mode", "gain"]), unique=True))
    )
    want = replace(WANT, **hidden)
    name = data.draw(st.sampled_from(sorted(choices)))
    assume(getattr(shelf[0].settings, name) is not None)
    blind = [replace(shelf[0], settings=replace(shelf[0].settings, **{name: None})), *shelf[1:]]

    def place(holdings):
        found = line(kind, *holdings, want=want)
        in_order = [c for c in (found.chosen, *found.runners_up) if c is not None]
        keys = [c.holding.key for c in in_order]
        mine = in_order[keys.index("0")]
        return keys.index("0"), ORDER.index(mine.verdict)

    before, after = place(shelf), place(blind)
    assume(before[1] < ORDER.index(Verdict.NOTHING))
    assert after >= before
    assert after[1] >= before[1]


@hypothesis_settings(max_examples=100)
@given(st.data())
def test_every_unknown_that_matters_is_said(data):
    unknown = data.draw(
        st.lists(st.sampled_from(["filter_code", "telescope", "gain", "offset", "angle", "focus", "binning", "night"]),
                 min_size=1, unique=True)
    )  # fmt: skip
    words = {"filter_code": "filter", "night": "age"}
    found = line(FrameKind.FLAT, flat("x", gain=0.0 if "gain" not in unknown else None, **{
        k: None for k in unknown if k != "gain"
    }))  # fmt: skip
    for name in unknown:
        assert f"{words.get(name, name)} is not known" in found.chosen.reasons


# -- sensors without a cooler ------------------------------------------------------------------------------------

WARM = replace(WANT, held=False, sensor_temp_c=14.0, temp_range_c=1.8)


def test_an_uncooled_set_is_as_wide_as_its_night_and_takes_the_nearest_of_it():
    assert line(FrameKind.DARK, dark("d", want=WARM, sensor_temp_c=15.8), want=WARM).verdict is Verdict.FITS
    cooler = dark("d", want=WARM, sensor_temp_c=10.5)
    found = line(FrameKind.DARK, cooler, want=WARM)
    assert found.verdict is Verdict.CARE, "there is none nearer of that night"
    assert "costs" in found.chosen.reasons[0]
    another_night = replace(cooler, settings=replace(cooler.settings, night=NIGHT - timedelta(days=3)))
    assert line(FrameKind.DARK, another_night, want=WARM).verdict is Verdict.NOTHING


def test_a_camera_without_a_thermometer_goes_by_its_nights():
    blind = replace(WANT, held=False, sensor_temp_c=None)
    none = Terms(says=RigSays(frozenset({"temperature"})))
    assert "temperature" in [q.quantity for q in pull_slip(blind, [dark("d", want=blind)]).questions]
    assert line(FrameKind.DARK, dark("d", want=blind), want=blind, terms=none).verdict is Verdict.FITS
    other = dark("d", want=blind, night=NIGHT - timedelta(days=2))
    found = line(FrameKind.DARK, other, want=blind, terms=none)
    assert (found.verdict, found.chosen.reasons) == (Verdict.CARE, ("2 nights old, allowed 0",))


def test_flats_that_say_no_time_are_in_doubt_about_an_event():
    event = TrainEvent(datetime(2025, 3, 9, 12, tzinfo=UTC), "collimated")
    found = line(FrameKind.FLAT, flat("f", taken=None), terms=Terms(events=(event,)))
    assert found.verdict is Verdict.CARE
    assert "collimated on 9 Mar 2025" in found.chosen.reasons[0]


def test_a_dark_that_lies_above_the_lights_is_not_of_their_settings_whatever_headers_say():
    # A program that writes no offset, and an offset that was changed: nothing else tells.
    lights = replace(WANT, offset=None)
    terms = Terms(lights=LightsNoise(8, None, 540.0))
    newer, older = (
        replace(dark(key, want=lights, night=NIGHT - timedelta(days=days)), level_adu=level)
        for key, days, level in (("newer", 20, 2003.0), ("older", 90, 503.0))
    )
    found = line(FrameKind.DARK, newer, older, want=lights, terms=terms)
    assert found.chosen.holding.key == "older"
    assert found.lost_on[0].startswith("it lies 1,463 ADU above these lights, so that nothing would be left")
    assert line(FrameKind.DARK, newer, want=lights, terms=terms).verdict is Verdict.NOTHING
    for level in (None, 555.0):
        assert line(FrameKind.DARK, replace(newer, level_adu=level), want=lights, terms=terms).chosen
    assert line(FrameKind.DARK, newer, want=lights).chosen, "lights whose level nobody knows"
    warm = replace(lights, held=False)
    found = line(FrameKind.DARK, newer, want=warm, terms=terms).chosen
    assert found.reasons[0].startswith("it lies 1,463 ADU above"), "without a cooler it may have been warmer"


@pytest.mark.parametrize(
    ("there", "fits"), [(4.0, True), (4.1, True), (3.5, False), (4.5, False), (None, True)]
)
def test_flats_at_another_stop_of_a_lens_are_of_another_train(there, fits):
    """Stops in thirds: 3.5, 4, 4.5 (common practice, no source)."""
    lights = replace(WANT, telescope=None, focal_length_mm=135.0, lens_stop=4.0)
    found = line(FrameKind.FLAT, flat("f", want=lights, lens_stop=there), want=lights)
    assert (found.chosen is not None) is fits
    assert fits or found.lost_on == (f"f/{there:g}, not f/4",)
    assert same_train(lights, replace(lights, lens_stop=there), Tolerances()) is fits
    one_train = Terms(says=RigSays(frozenset({"telescope"})))
    assert line(FrameKind.FLAT, flat("f", want=lights, lens_stop=there), want=lights, terms=one_train).chosen


def test_a_dark_far_under_its_bias_has_no_pedestal_in_it():
    bias = [replace(dark(f"b{n}", exposure_s=0.0), kind=FrameKind.BIAS, level_adu=n) for n in (480.0, 520.0)]
    for level, care in ((2.0, True), (230.0, True), (250.0, False), (900.0, False), (None, False)):
        whole = with_levels_held([*bias, replace(dark("d"), level_adu=level)])
        assert [bool(h.care) and h.spoiled for h in whole] == [False, False, care], level
    (_, _, told) = with_levels_held([*bias, replace(dark("d"), level_adu=2.0)])
    assert told.care[0].startswith("it lies 478 ADU under the bias of its settings: a bias was taken off it")
    known = replace(dark("d"), level_adu=2.0, spoiled=True, care=("a bias was taken off it, by its header",))
    assert with_levels_held([*bias, known])[-1] is known, "told once"
    near_zero = [
        replace(dark("b", exposure_s=0.0), kind=FrameKind.BIAS, level_adu=3.0),
        replace(dark("d"), level_adu=0.0),
    ]
    assert with_levels_held(near_zero)[-1] is near_zero[-1], (
        "of cameras that take the pedestal off by themselves"
    )
    other_gain = replace(dark("d", gain=0.0), level_adu=2.0)
    assert with_levels_held([*bias, other_gain])[-1] is other_gain, "nothing to hold it against"


def test_ties_are_broken_the_same_way_and_choose_passes_other_sensors_over():
    twins = [dark(str(i)) for i in range(5)]
    first = choose(FrameKind.DARK, Stock(twins), [Wanted(Role.DARK, WANT, Terms())])
    second = choose(FrameKind.DARK, Stock(twins[::-1]), [Wanted(Role.DARK, WANT, Terms())])
    assert first == second
    assert line(FrameKind.DARK, dark("x", sample_step=16), want=replace(WANT, sample_step=4)).runners_up == ()
    assert Tolerances().focal_length_percent == 2.0
