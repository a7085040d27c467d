"""On what terms a rig's frames are judged: what was measured of its camera, what was done to it, what a person said."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.settings import FlatWishes, usual_wishes, wishes_from
from grayshelf.core.frames.facts import uses_iso
from grayshelf.core.frames.sets import shows_a_cooler
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.model import BIAS_WILL_DO, RigSays, SensorTraits, Tolerances, TrainEvent
from grayshelf.core.matching.rig_events import RigEventKind
from grayshelf.core.matching.rulers import plain_name
from grayshelf.core.rigs.camera import CameraCard, camera_card
from grayshelf.core.rigs.house_rules import FlatsWhen, HouseRules, rules_from
from grayshelf.core.rigs.trains import train_of
from grayshelf.core.sensor.gain_words import ONE_GAIN
from grayshelf.core.sensor.offset_checked import PairWarning, pair_warning
from grayshelf.library.camera_values import checked_offsets, measured_gain
from grayshelf.library.cameras_alike import cameras_alike
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import CameraRow, FrameSet, Rig
from grayshelf.library.trains import standing_rigs, trains_in
from grayshelf.library.unreadable import readable


def camera_row(session: Session, name: str) -> CameraRow:
    """A camera's row, made where there is none yet."""
    row = session.scalar(select(CameraRow).where(CameraRow.name == name))
    if row is None:
        row = CameraRow(name=name)
        session.add(row)
        session.flush()
    return row


def tolerances_of(rig: Rig) -> Tolerances:
    """How near is near enough for this rig."""
    return house_rules_of(rig).tolerances


def wishes_of(rig: Rig) -> FlatWishes:
    """What this rig wants of its flats."""
    return wishes_from(rig.wishes)


def flat_wishes(library: Library, rig: Rig, own: Mapping[str, Any] | None = None) -> FlatWishes:
    """What this rig wants of its flats, by its camera where nobody said it; with a row's `own` over it."""
    iso = gain_word(library, rig.camera) == "ISO"
    return wishes_from(usual_wishes(camera_of(rig).shutter, iso=iso), rig.wishes, own or {})


def camera_of(rig: Rig) -> CameraCard:
    """What a person said of the rig's camera."""
    return camera_card(rig.camera_row.traits if rig.camera_row is not None else {})


def traits_of(rig: Rig) -> SensorTraits:
    """What is known of the rig's camera, for costs in electrons."""
    return camera_of(rig).sensor()


def house_rules_of(rig: Rig) -> HouseRules:
    """What holds for a rig, as it is kept; what is no rule, or cannot be, is left at the usual."""
    wishes = wishes_of(rig)
    kept: dict[str, Any] = {
        **rig.tolerances,
        **rig.rules,
        "n_flats": wishes.n_flats,
        "n_dark_flats": wishes.n_dark_flats,
        "bias_under_flats": _said_of(rig).bias_will_do,
    }
    if kept.pop("train_stays_put", False) and "flats_when" not in kept:
        # As a version before house rules kept it.
        kept["flats_when"] = FlatsWhen.WHEN_MOVED
    return rules_from(kept)


def traits_at(library: Library, rig: Rig, gain: float | None) -> SensorTraits:
    """What is known of the rig's camera at a gain: what the Bench measured, where it did."""
    # 0 stands for the gain of a camera that has one.
    at = 0.0 if gain is None and has_one_gain(library, rig.camera) else gain
    traits, measured = traits_of(rig), measured_gain(library, rig.camera, at)
    if measured is None:
        return traits
    return replace(traits, read_noise_e=measured.read_noise_e, electrons_per_adu=measured.e_per_adu)


@kept(32)
def _gain_word(library: Library, revision: int, camera: str) -> str:
    with library.db.own_session() as session:
        said = session.scalar(select(CameraRow).where(CameraRow.name == camera))
        word = camera_card(said.traits).gain_word if said is not None else None
        if word is not None:
            return word
        # Read in the database: a library has many sets and few gains.
        facts = readable(FrameSet.facts)
        gain, keyword = facts["gain"].as_float(), facts[("origins", "gain")].as_string()
        found = session.execute(select(gain, keyword).where(FrameSet.camera == camera).distinct()).all()
    return "ISO" if uses_iso([g for g, _ in found], {k for _, k in found}) else "gain"


def gain_word(library: Library, camera: str) -> str:
    """What a camera calls its gain, the same on every page: 'ISO' or 'gain'."""
    return _gain_word(library, library.revision, camera)


@kept(32)
def _was_cooled(library: Library, revision: int, camera: str) -> bool:
    with library.db.own_session() as session:
        facts = readable(FrameSet.facts)
        temperatures = select(facts["sensor_temp_c"].as_float(), facts["set_temp_c"].as_float()).distinct()
        return any(
            shows_a_cooler(*both) for both in session.execute(temperatures.where(FrameSet.camera == camera))
        )


def has_cooler(library: Library, rig: Rig) -> bool:
    """Whether a rig's camera can be set to a temperature: as a person said, else where any of its frames was held at one
    or is colder than a night.

    Another program, or the same one by another driver, may leave the set point out.
    """
    said = camera_of(rig).cooled
    return _was_cooled(library, library.revision, rig.camera) if said is None else said


def offset_warning(
    library: Library, camera: str, gain: float | None, offset: float | None
) -> PairWarning | None:
    """What to say where an offset was never checked at a gain, or does not hold there."""
    return pair_warning(gain, offset, checked_offsets(library, camera), gain_word(library, camera))


def events_of(rig: Rig) -> list[TrainEvent]:
    """What was done to the rig's train."""
    return [TrainEvent(e.at, e.what) for e in rig.events if RigEventKind(e.kind).ends_flats]


@kept(32)
def _has_one_gain(library: Library, revision: int, camera: str) -> bool:
    with library.db.own_session() as session:
        gain = readable(FrameSet.facts)["gain"].as_float()
        told = select(gain.is_not(None)).distinct().where(FrameSet.camera == camera)
        said = session.scalars(select(Rig.says).where(Rig.camera == camera))
        changed = any((says or {}).get("gain") == "moves" for says in said)
        return not changed and set(session.scalars(told)) == {False}


def has_one_gain(library: Library, camera: str) -> bool:
    """Whether there are frames of a camera, and none tells a gain: it has no dial for it (common practice of older ones), unless
    a person said that it is changed."""
    return _has_one_gain(library, library.revision, camera)


def word_where_measured(library: Library, camera: str) -> str:
    """As `gain_word`; `ONE_GAIN` of a camera that has one."""
    return ONE_GAIN if has_one_gain(library, camera) else gain_word(library, camera)


@kept(32)
def _offsets_told(library: Library, revision: int, camera: str) -> frozenset[float]:
    with library.db.own_session() as session:
        offset = readable(FrameSet.facts)["offset"].as_float()
        told = select(offset).distinct().where(FrameSet.camera == camera, offset.is_not(None))
        return frozenset(session.scalars(told))


def offsets_told(library: Library, camera: str) -> frozenset[float]:
    """The offsets that any frame of a camera tells."""
    return _offsets_told(library, library.revision, camera)


def says_of(library: Library, rig: Rig) -> RigSays:
    """What a person said of the rig's parts, and whether any frame of its camera tells an offset: one with ISO has none to
    set unless its frames or the person tell of one (common practice)."""
    said, camera = _said_of(rig), rig.camera
    if has_one_gain(library, camera):
        said = replace(said, untold=frozenset({"gain"}))
    if offsets_told(library, camera):
        return said
    said = replace(said, untold=said.untold | {"offset"})
    if "offset" in said.fixed | said.moves or gain_word(library, camera) != "ISO":
        return said
    return replace(said, fixed=said.fixed | {"offset"})


def _said_of(rig: Rig) -> RigSays:
    said = dict(rig.says or {})
    if camera_of(rig).bias_usable is False:
        # No bias of this camera is one: none stands in, and nobody is asked whether it will do.
        said[BIAS_WILL_DO] = "moves"
    return RigSays(
        frozenset(q for q, word in said.items() if word == "fixed"),
        frozenset(q for q, word in said.items() if word == "moves"),
    )


def terms_of(library: Library, rig: Rig, gain: float | None) -> Terms:
    """On what terms the rig's frames are judged, apart from the lights that they serve."""
    return Terms(
        tolerances_of(rig),
        traits_at(library, rig, gain),
        says=says_of(library, rig),
        events=tuple(events_of(rig)),
        gain_word=gain_word(library, rig.camera),
        several_cameras=rig.camera in cameras_alike(library),
    )


def under_rules(terms: Terms, rules: HouseRules) -> Terms:
    """The terms as they would be under other house rules."""
    fixed = terms.says.fixed - {BIAS_WILL_DO} | ({BIAS_WILL_DO} if rules.bias_under_flats else set())
    moves = terms.says.moves - ({BIAS_WILL_DO} if rules.bias_under_flats else set())
    return replace(terms, tolerances=rules.tolerances, says=RigSays(frozenset(fixed), frozenset(moves)))


class TermsByGain:
    """The terms of a rig, worked out once for each gain."""

    def __init__(self, library: Library, rig: Rig) -> None:
        """Nothing is worked out before it is asked for."""
        self._library, self._rig = library, rig
        self._found: dict[float | None, Terms] = {}

    def __call__(self, gain: float | None) -> Terms:
        """The terms at a gain."""
        if gain not in self._found:
            self._found[gain] = terms_of(self._library, self._rig, gain)
        return self._found[gain]


def rig_of(session: Session, row: FrameSet) -> Rig | None:
    """The rig that took a set: its camera and train; frames that name no telescope, the camera's first rig."""
    telescope, mm = row.facts.get("telescope"), row.facts.get("focal_length_mm")
    number = train_of(trains_in(session), row.camera, telescope, mm)
    if number is not None:
        return session.get(Rig, number)
    if plain_name(telescope) is not None:
        return None
    return session.scalar(standing_rigs().where(Rig.camera == (row.camera or "")).limit(1))


def rig_of_lights(session: Session, row: FrameSet) -> Rig:
    """The rig that took a set of lights."""
    rig = rig_of(session, row)
    if rig is None:
        raise GrayShelfError("No rig is known for these lights.", "Scan their folder again.")
    return rig
