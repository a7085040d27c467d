"""How one master or set does for one set of lights (or flats): a ruler for each setting, a verdict, and reasons.

Settings that must be the same are hard. Others lie within a tolerance; beyond it the predicted cost decides for a
dark's temperature and exposure. What is not known is *unknown*, never equal, and is always said.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace

from grayshelf.core.digits import significant
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.noise import flat_stack_noise
from grayshelf.core.matching import rulers
from grayshelf.core.matching.age import age_in_words
from grayshelf.core.matching.cameras_alike import CAMERA, which_camera
from grayshelf.core.matching.capped_levels import brighter_than_lights
from grayshelf.core.matching.costs import (
    USUAL_FLAT_SIGNAL_E,
    DarkCost,
    dark_cost,
    few_darks_percent,
    few_flats_percent,
    stack_noise_e,
)
from grayshelf.core.matching.model import (
    Candidate,
    CommonSettings,
    Holding,
    LightsNoise,
    RigSays,
    Ruler,
    SensorTraits,
    Tolerances,
    TrainEvent,
    Verdict,
)
from grayshelf.core.matching.part_of_sensor import not_of_the_part, odd_place, part_ruler, place_in
from grayshelf.core.matching.rank import doubts_of
from grayshelf.core.pictures.colours import in_short, side_of

#: Fewer loose frames than this are no stack: nothing in them can be told from an outlier.
FEWEST_IN_STACK = 3


@dataclass(frozen=True)
class Terms:
    """What every judgement of one slip shares."""

    tolerances: Tolerances = Tolerances()
    traits: SensorTraits = SensorTraits()
    lights: LightsNoise = LightsNoise()
    says: RigSays = RigSays()
    events: tuple[TrainEvent, ...] = ()
    several_focal_lengths: bool = False
    """Whether flats of the lights' telescope are on the shelf at more than one: then lights that give none are in doubt."""
    gain_word: str = "gain"
    """What this camera calls its gain: 'gain' or 'ISO'."""
    several_cameras: bool = False
    """Whether more than one camera has this name (`cameras_alike`)."""

    def word(self, quantity: str) -> str:
        """A quantity as this camera's people call it."""
        if quantity == CAMERA:
            return "which of the cameras of this name took it"
        return self.gain_word if quantity == "gain" else quantity


def not_the_same_sensor(want: CommonSettings, have: CommonSettings, *, crops: bool = True) -> list[str]:
    """Reasons why the two cannot be of one sensor, read out the same way. They make a holding no candidate.

    Parameters
    ----------
    crops
        Whether the holding may be cropped to serve (`place_in`).
    """
    reasons: list[str] = []
    if want.camera != have.camera or want.camera is None:
        reasons.append(f"another camera, {have.camera or 'not named'}")
    place = place_in(want, have, crops=crops)
    if place is None:
        reasons.append(not_of_the_part(want, have))
    if want.sample_step and have.sample_step and want.sample_step != have.sample_step:
        reasons.append(f"samples in steps of {have.sample_step}, not {want.sample_step}: another driver")
    repeat = max(side_of(want.bayer_pattern), side_of(have.bayer_pattern))
    for name, a, b in _read_out(want, have):
        untold = name == "colour phase" and place is not None and odd_place(place, repeat)
        if a is not None and b is not None and a != b and not untold:
            reasons.append(f"another {name}, {b}")
    return reasons


def _read_out(want: CommonSettings, have: CommonSettings) -> tuple[tuple[str, str | None, str | None], ...]:
    return (
        ("row order", want.row_order, have.row_order),
        ("colour phase", in_short(want.bayer_pattern), in_short(have.bayer_pattern)),
        ("read-out mode", want.read_mode, have.read_mode),
    )


@dataclass
class _Findings:
    """What speaks against a holding: failures forbid it, the rest asks for care."""

    failures: list[str] = field(default_factory=list)
    care: list[str] = field(default_factory=list)

    def verdict(self) -> Verdict:
        return Verdict.NOTHING if self.failures else Verdict.CARE if self.care else Verdict.FITS


def _judge(
    want: CommonSettings,
    holding: Holding,
    measured: Iterable[Ruler],
    hard: Iterable[str],
    terms: Terms,
    found: _Findings,
    *,
    mismatch_e: float = 0.0,
    noise_e: float = 0.0,
) -> Candidate:
    """Turn rulers into a verdict.

    Rulers named in `hard` decide between fitting and not, others ask for care. What the rig's owner said to be
    fixed or absent is not judged at all.
    """
    have, must = holding.settings, set(hard)
    doubted, by_hand = want.from_name | have.from_name, want.by_hand | have.by_hand
    # What lights say of their read-out and this does not; where they do not say, no camera of one mode is doubted.
    said = [rulers.exact(name, a, b) for name, a, b in _read_out(want, have) if a is not None and b is None]
    part = part_ruler(want, have)
    if part is not None:
        said.append(part)
    kept = [
        r._replace(decides=r.quantity in must, from_name=r.quantity in doubted, by_hand=r.quantity in by_hand)
        for r in (*measured, *said)
        if r.quantity not in terms.says.fixed
    ]
    for ruler in kept:
        if ruler.unknown:
            found.care.append(f"{terms.word(ruler.quantity)} is not known")
        elif not ruler.inside and not ruler.told:
            (found.failures if ruler.decides else found.care).append(tell(ruler, terms))
        elif ruler.from_name and ruler.inside:
            unit = f" {ruler.unit}" if isinstance(ruler.measured, float) and ruler.unit else ""
            told = f"{terms.word(ruler.quantity)} {_number(ruler.measured)}{unit}"
            found.care.append(f"{told} is only from a file’s name")
    if not holding.is_master and holding.n_frames < FEWEST_IN_STACK:
        found.care.append(f"only {_frames(holding.n_frames)}: nothing in so few can be told from an outlier")
    found.care += holding.care
    if holding.empty:
        found.failures += holding.care
    return Candidate(
        holding,
        found.verdict(),
        tuple(kept),
        tuple(found.failures or found.care),
        mismatch_e,
        noise_e,
        doubts_of(kept),
    )


def _frames(count: int) -> str:
    return f"{count} frame{'s' if count != 1 else ''}"


def tell(ruler: Ruler, terms: Terms) -> str:
    """A ruler that is outside, in words."""
    old = "later" if ruler.later else "old"
    if ruler.kind == "age" and ruler.unit == "days":
        return f"{age_in_words(float(ruler.measured or 0))} {old}, allowed {age_in_words(float(ruler.tolerance or 0))}"
    if ruler.kind == "age":
        return f"{ruler.measured:.0f} {ruler.unit} {old}, allowed {ruler.tolerance:.0f}"
    if ruler.quantity == CAMERA:
        return f"another camera of this name, that of {ruler.measured}"
    if ruler.kind == "exact" and isinstance(ruler.wanted, str) and ruler.quantity in ("telescope", "filter"):
        return f"another {ruler.quantity}, {ruler.measured}"
    if ruler.kind == "exact":
        return f"{terms.word(ruler.quantity)} {_number(ruler.measured)}, not {_number(ruler.wanted)}"
    if ruler.quantity == "focal length":
        return f"focal length {ruler.measured:g} mm, not {ruler.wanted:g} mm"
    sign = "+" if (ruler.distance or 0) > 0 else "−"
    space = "" if ruler.unit == "°" else " "
    return f"{ruler.quantity} off by {sign}{significant(abs(ruler.distance or 0), 3)}{space}{ruler.unit}"


def _number(value: float | str | None) -> str:
    return f"{value:g}".replace("-", "−") if isinstance(value, float) else str(value)


def _few(holding: Holding, percent: float, terms: Terms, found: _Findings) -> None:
    """Few frames are told by what they cost, not by their count."""
    if percent <= terms.tolerances.few_frames_percent:
        return
    lights = terms.lights.n_lights
    whose = "this light" if lights == 1 else f"these {lights} lights"
    add = "it adds" if holding.n_frames == 1 else "they add"
    found.care.append(f"only {_frames(holding.n_frames)}: {add} {percent:.0f} % to the noise of {whose}")


def few_frames(holding: Holding, tolerances: Tolerances) -> list[str]:
    """What few frames would cost a usual stack of lights, where that is much; whatever lights pull the holding."""
    terms, found, have = Terms(tolerances), _Findings(), holding.settings
    if holding.kind is FrameKind.DARK:
        percent = few_darks_percent(have, holding, terms.traits, terms.lights, tolerances.dither_positions)
    elif holding.kind is FrameKind.FLAT:
        percent = few_flats_percent(have, holding, terms.traits, terms.lights, tolerances.dither_positions)
    else:
        return [f"only {_frames(holding.n_frames)}"] if holding.n_frames < FEWEST_IN_STACK else []
    _few(holding, percent, terms, found)
    return found.care


def _cost_in_words(outside: Sequence[Ruler], cost: DarkCost, terms: Terms) -> str:
    """What a mismatch beyond its tolerance costs: of temperature and exposure it is one cost, to which the dark's own noise
    comes."""
    usual = " by usual figures of a cooled sensor" if terms.traits.dark_assumed else ""
    costs = ": costs" if len(outside) == 1 else ": together they cost"
    return (
        f"{' and '.join(tell(r, terms) for r in outside)}{costs} {_electrons(cost.mismatch_e)}, "
        f"{_electrons(cost.hot_mismatch_e)} in the hottest 0.1 %{usual}; with the noise of the dark that is "
        f"{_percent(cost.share)} the lights’ own noise"
    )


def _electrons(value: float) -> str:
    return "under 0.01 e⁻" if abs(value) < 0.01 else f"{significant(value, 2)} e⁻"


def _percent(share: float) -> str:
    return f"{100 * share:.0f} % of" if share < 10 else "many times"


def _settle_by_cost(
    measured: Sequence[Ruler], cost: DarkCost, terms: Terms, found: _Findings, mild: bool
) -> list[Ruler]:
    """Take the rulers whose cost decides out of the hard ones: they are told with what it costs.

    `mild` lets a dark of the same night serve a sensor without a cooler, with care: there is none nearer.
    """
    weighed = ("temperature", "exposure")
    outside = [r for r in measured if r.quantity in weighed and not r.unknown and not r.inside]
    if not outside:
        return [*measured]

    def near(ruler: Ruler) -> bool:
        close = abs(ruler.distance or 0.0) <= terms.tolerances.uncooled_same_night_c
        return mild and ruler.quantity == "temperature" and close

    bearable = cost.share <= terms.tolerances.mismatch_share or all(near(r) for r in outside)
    (found.care if bearable else found.failures).append(_cost_in_words(outside, cost, terms))
    return [r._replace(told=True) if r in outside else r for r in measured]


def judge_dark(want: CommonSettings, holding: Holding, terms: Terms = Terms()) -> Candidate:
    """How a dark does for lights."""
    have, tolerances, found = holding.settings, terms.tolerances, _Findings()
    measured = [
        *which_camera(want, have, several=terms.several_cameras),
        rulers.exact("gain", want.gain, have.gain),
        rulers.exact("offset", want.offset, have.offset),
        rulers.exact("binning", want.binning, have.binning),
        rulers.temperature(want, have, tolerances.dark_temp_c),
        rulers.exposure(want, have, tolerances.dark_exposure_percent),
        rulers.age_days(want, have, tolerances.dark_age_days),
    ]
    if "temperature" in terms.says.fixed:
        # Nobody knows how warm the sensor was, only that one night is more like itself than like another.
        measured[-1] = rulers.age_nights(want, have, 0)
    cost = dark_cost(want, holding, terms.traits, terms.lights)
    mild = not want.held and want.night is not None and want.night == have.night
    judged = [r for r in measured if r.quantity not in terms.says.fixed]
    judged = _settle_by_cost(judged, cost, terms, found, mild)
    percent = few_darks_percent(want, holding, terms.traits, terms.lights, tolerances.dither_positions)
    _few(holding, percent, terms, found)
    # A sensor that nobody holds may have been warmer for its darks, which is told of above.
    above = brighter_than_lights(holding.level_adu, terms.lights.level_adu)
    (found.failures if want.held else found.care).extend(above)
    hard = (CAMERA, "gain", "offset", "binning", "temperature", "exposure")
    return _judge(want, holding, judged, hard, terms, found, mismatch_e=cost.mismatch_e, noise_e=cost.noise_e)


def judge_bias(want: CommonSettings, holding: Holding, terms: Terms = Terms()) -> Candidate:
    """How a bias does for lights or flats."""
    have = holding.settings
    measured = (
        *which_camera(want, have, several=terms.several_cameras),
        rulers.exact("gain", want.gain, have.gain),
        rulers.exact("offset", want.offset, have.offset),
        rulers.exact("binning", want.binning, have.binning),
        rulers.age_days(want, have, terms.tolerances.bias_age_days),
    )
    noise = terms.traits.read_noise_e / max(holding.n_frames, 1) ** 0.5
    hard = (CAMERA, "gain", "offset", "binning")
    return _judge(want, holding, measured, hard, terms, _Findings(), noise_e=noise)


def judge_flat(want: CommonSettings, holding: Holding, terms: Terms = Terms()) -> Candidate:
    """How a flat does for lights. Another gain or offset asks for care; its own dark flat takes the pedestal off."""
    have, tolerances, found = holding.settings, terms.tolerances, _Findings()
    measured = [
        rulers.same_name("filter", want.filter_code, have.filter_code),
        rulers.same_name("telescope", want.telescope, have.telescope),
        rulers.focal_length(want, have, tolerances.focal_length_percent),
        rulers.exact("gain", want.gain, have.gain),
        rulers.exact("offset", want.offset, have.offset),
        rulers.exact("binning", want.binning, have.binning),
        rulers.angle(want, have, tolerances.flat_angle_deg),
        rulers.band("focus", want.focus, have.focus, tolerances.flat_focus_steps, "steps"),
        rulers.age_nights(want, have, tolerances.flat_nights),
    ]
    one_reducer = want.focal_length_mm is None and not terms.several_focal_lengths
    if one_reducer or "telescope" in terms.says.fixed:
        # Lights that give no focal length ask for none; and one train is one, whatever the headers call it.
        measured = [r for r in measured if r.quantity != "focal length"]
    if tolerances.train_stays_put and not measured[-1].unknown:
        measured[-1] = measured[-1]._replace(inside=True, note="the telescope is never taken apart")
    for event in terms.events:
        _judge_event(event, want, have, found)
    if "telescope" not in terms.says.fixed:
        found.failures += rulers.other_stop(want, have)
    percent = few_flats_percent(want, holding, terms.traits, terms.lights, tolerances.dither_positions)
    _few(holding, percent, terms, found)
    signal_e = holding.signal_e or USUAL_FLAT_SIGNAL_E
    noise = 1000.0 * flat_stack_noise(signal_e, terms.traits.read_noise_e, max(holding.n_frames, 1), None)
    hard = ("filter", "telescope", "focal length", "binning", "angle", "focus")
    return _judge(want, holding, measured, hard, terms, found, noise_e=noise)


def _judge_event(event: TrainEvent, want: CommonSettings, have: CommonSettings, found: _Findings) -> None:
    if want.taken is None or have.taken is None:
        found.care.append(
            f"{event.what} on {event.at:%-d %b %Y}, and which side of it they are on is not known"
        )
    elif (want.taken < event.at) != (have.taken < event.at):
        found.failures.append(f"{event.what} between them, {event.at:%-d %b %Y}")


def judge_dark_flat(flat: CommonSettings, holding: Holding, terms: Terms = Terms()) -> Candidate:
    """How a dark flat (or a dark of the flat's exposure) does for a flat."""
    have, tolerances = holding.settings, terms.tolerances
    measured = (
        *which_camera(flat, have, several=terms.several_cameras),
        rulers.exact("gain", flat.gain, have.gain),
        rulers.exact("offset", flat.offset, have.offset),
        rulers.exact("binning", flat.binning, have.binning),
        rulers.temperature(flat, have, tolerances.dark_flat_temp_c),
        rulers.exposure(flat, have, tolerances.dark_flat_exposure_percent),
        rulers.age_days(flat, have, tolerances.dark_age_days),
    )
    hard = (CAMERA, "gain", "offset", "binning", "temperature", "exposure")
    noise = stack_noise_e(flat, holding, terms.traits)
    judged = _judge(flat, holding, measured, hard, terms, _Findings(), noise_e=noise)
    age = measured[-1]
    return replace(judged, nights_off=math.inf if age.distance is None else age.distance)
