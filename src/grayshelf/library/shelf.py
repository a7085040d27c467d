"""What stands on the shelf, what lights pull from it, and what is missing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session, selectinload

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.settings import FlatWishes, wishes_from
from grayshelf.core.frames.facts import FrameFacts, uses_iso
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.sets import held, nominal_exposure, nominal_temperature
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.match import gap_key, pull_slip, same_gap
from grayshelf.core.matching.model import (
    CommonSettings,
    Holding,
    LightsNoise,
    PullSlip,
    RigSays,
    SensorTraits,
    Tolerances,
    TrainEvent,
    Verdict,
)
from grayshelf.core.matching.rig_events import RigEventKind
from grayshelf.core.matching.rulers import plain_name
from grayshelf.core.sensor.checked import PairWarning, pair_warning
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.measurements import checked_offsets, measured_gain
from grayshelf.library.models import Frame, FrameSet, Rig


def common_settings(frame_set: FrameSet, facts: FrameFacts) -> CommonSettings:
    """A set's settings in the words of matching."""
    facts, from_name = believed(frame_set, facts)
    binning = (facts.binning_x, facts.binning_y or facts.binning_x) if facts.binning_x else None
    return CommonSettings(
        camera=facts.camera,
        width=facts.width,
        height=facts.height,
        binning=binning,
        read_mode=facts.read_mode,
        sample_step=frame_set.sample_step,
        row_order=facts.row_order,
        bayer_pattern=facts.bayer_pattern,
        gain=facts.gain,
        offset=facts.offset,
        exposure_s=None if facts.exposure_s is None else nominal_exposure(facts.exposure_s),
        exposures_differ=facts.of_sky,
        sensor_temp_c=facts.sensor_temp_c,
        temp_range_c=facts.temp_range_c,
        held=held(facts),
        telescope=facts.telescope,
        focal_length_mm=facts.focal_length_mm,
        filter_code=facts.filter_code,
        angle=facts.angle,
        focus=facts.focus,
        night=facts.night,
        taken=frame_set.last_utc,
        from_name=from_name,
    )


#: Frames of one set that all say the same in their names agree: such a number does not count them.
AGREE_FROM = 3
#: Under what a value that a name may give is kept.
_NAMED_FIELDS: dict[str, tuple[str, ...]] = {
    "gain": ("gain",),
    "offset": ("offset",),
    "binning": ("binning_x", "binning_y"),
    "exposure": ("exposure_s",),
    "temperature": ("sensor_temp_c",),
}


def believed(frame_set: FrameSet, facts: FrameFacts) -> tuple[FrameFacts, frozenset[str]]:
    """The facts as far as they are to be believed, and what of them is still in doubt.

    What only files' names say is in doubt until the frames of a set agree or a person has said that it is right; what
    a person said to be wrong is not known.
    """
    wrong = {q for q, right in frame_set.said.items() if right is False}
    unknown = {name: None for q in wrong for name in _NAMED_FIELDS.get(q, ())}
    agreed = not frame_set.is_master and frame_set.n_frames >= AGREE_FROM
    doubted = () if agreed else facts.from_name
    return replace(facts, **unknown), frozenset(q for q in doubted if q not in frame_set.said)  # type: ignore[arg-type]


def holding_of(frame_set: FrameSet, level_adu: float | None = None, missing: int = 0) -> Holding:
    """A set or master in the words of matching.

    Parameters
    ----------
    missing
        How many of its files are not where they were.
    level_adu
        For a master flat: the level of the frames that it was made of.
    """
    facts = facts_from_json(frame_set.facts)
    record = frame_set.record
    settings = common_settings(frame_set, facts)
    care = list(record.care) if record else []
    if "kind of frame" in settings.from_name:
        care.append(f"that it is a {frame_set.kind} is only in its file’s name")
    if missing:
        care.append(missing_in_words(missing, frame_set))
    level = frame_set.level_adu if level_adu is None else level_adu
    signal = level * facts.electrons_per_adu if level and facts.electrons_per_adu else None
    return Holding(
        key=str(frame_set.id),
        kind=FrameKind(frame_set.kind),
        settings=settings,
        n_frames=frame_set.n_frames,
        is_master=frame_set.is_master,
        care=tuple(care),
        pedestal_taken_off=True if record and record.pedestal_kind else None,
        pedestal_is_bias=bool(record and record.pedestal_kind == FrameKind.BIAS),
        signal_e=signal if frame_set.kind == "flat" and signal and signal > 0 else None,
    )


def missing_by_set(session: Session) -> dict[int, int]:
    """How many files are missing, by set."""
    query = select(Frame.set_id, func.count()).where(
        Frame.missing_since.is_not(None), Frame.set_id.is_not(None)
    )
    return {set_id: n for set_id, n in session.execute(query.group_by(Frame.set_id)) if set_id is not None}


def missing_in_words(missing: int, frame_set: FrameSet) -> str:
    """'its file is missing', '3 of its 20 files are missing'."""
    if frame_set.is_master:
        return "its file is missing"
    if missing == frame_set.n_frames:
        return f"all of its {missing} files are missing" if missing > 1 else "its file is missing"
    return f"{missing} of its {frame_set.n_frames} files {'is' if missing == 1 else 'are'} missing"


@kept(4)
def _holdings(library: Library, revision: int) -> dict[str, list[Holding]]:
    """Everything on the shelf by camera; kept until the shelf changes."""
    by_camera: dict[str, list[Holding]] = {}
    with library.db.own_session() as session:
        rows = session.scalars(
            select(FrameSet)
            .where(
                FrameSet.kind != "light",
                FrameSet.master_set_id.is_(None),
                FrameSet.taken_off.is_(False),
                FrameSet.measurement_id.is_(None),
            )
            .options(selectinload(FrameSet.record))
        )
        levels = dict(
            session.execute(
                select(FrameSet.master_set_id, FrameSet.level_adu).where(
                    FrameSet.kind == "flat", FrameSet.master_set_id.is_not(None)
                )
            ).all()
        )
        missing = missing_by_set(session)
        for row in rows:
            by_camera.setdefault(row.camera or "", []).append(
                holding_of(row, levels.get(row.id), missing.get(row.id, 0))
            )
    return by_camera


def holdings(library: Library, camera: str) -> list[Holding]:
    """Masters, and sets not yet combined, of one camera."""
    return _holdings(library, library.revision).get(camera, [])


def _from_json(cls: type, values: dict[str, Any]) -> Any:
    names = {f.name for f in fields(cls)}
    return cls(**{k: v for k, v in values.items() if k in names})


def tolerances_of(rig: Rig) -> Tolerances:
    """How near is near enough for this rig."""
    return _from_json(Tolerances, rig.tolerances)


def wishes_of(rig: Rig) -> FlatWishes:
    """What this rig wants of its flats."""
    return wishes_from(rig.wishes)


def traits_of(rig: Rig) -> SensorTraits:
    """What is known of the rig's camera."""
    return _from_json(SensorTraits, rig.traits)


def traits_at(library: Library, rig: Rig, gain: float | None) -> SensorTraits:
    """What is known of the rig's camera at a gain: what the Bench measured, where it did."""
    traits, measured = traits_of(rig), measured_gain(library, rig.camera, gain)
    if measured is None:
        return traits
    return replace(
        traits, read_noise_e=measured.read_noise_e, electrons_per_adu=measured.e_per_adu, assumed=False
    )


@kept(32)
def _gain_word(library: Library, revision: int, camera: str) -> str:
    gains: set[float] = set()
    keywords: set[str] = set()
    with library.db.own_session() as session:
        for facts in session.scalars(select(FrameSet.facts).where(FrameSet.camera == camera)):
            if facts.get("gain") is not None:
                gains.add(float(facts["gain"]))
                keywords.add(facts.get("origins", {}).get("gain", ""))
    return "ISO" if uses_iso(list(gains), keywords) else "gain"


def gain_word(library: Library, camera: str) -> str:
    """What a camera calls its gain, the same on every page: 'ISO' or 'gain'."""
    return _gain_word(library, library.revision, camera)


def offset_warning(
    library: Library, camera: str, gain: float | None, offset: float | None
) -> PairWarning | None:
    """What to say where an offset was never checked at a gain, or does not hold there."""
    return pair_warning(gain, offset, checked_offsets(library, camera), gain_word(library, camera))


def events_of(rig: Rig) -> list[TrainEvent]:
    """What was done to the rig's train."""
    return [TrainEvent(e.at, e.what) for e in rig.events if RigEventKind(e.kind).ends_flats]


def says_of(rig: Rig) -> RigSays:
    """What a person said of the rig's parts."""
    said = rig.says or {}
    return RigSays(
        frozenset(q for q, word in said.items() if word == "fixed"),
        frozenset(q for q, word in said.items() if word == "moves"),
    )


def terms_of(library: Library, rig: Rig, gain: float | None) -> Terms:
    """On what terms the rig's frames are judged, apart from the lights that they serve."""
    return Terms(
        tolerances_of(rig),
        traits_at(library, rig, gain),
        says=says_of(rig),
        events=tuple(events_of(rig)),
        gain_word=gain_word(library, rig.camera),
    )


@dataclass(frozen=True)
class LightSet:
    """A set of lights and what it asks for."""

    row: FrameSet
    facts: FrameFacts
    want: CommonSettings


def light_sets(session: Session, rig: Rig) -> list[LightSet]:
    """The light sets of a rig, oldest first."""
    rows = session.scalars(
        select(FrameSet)
        .where(FrameSet.kind == "light", FrameSet.camera == rig.camera)
        .order_by(FrameSet.night, FrameSet.first_utc, FrameSet.id)
    )
    result = []
    for row in rows:
        facts = facts_from_json(row.facts)
        if plain_name(facts.telescope) == plain_name(rig.telescope):
            result.append(light_set(row, facts))
    return result


def light_set(row: FrameSet, facts: FrameFacts | None = None) -> LightSet:
    """One set of lights in the words of matching."""
    facts = facts or facts_from_json(row.facts)
    return LightSet(row, facts, common_settings(row, facts))


def electrons_per_adu(library: Library, lights: LightSet) -> float | None:
    """e⁻/ADU of a set of lights: as the Bench measured it, else as their header says."""
    measured = measured_gain(library, lights.want.camera or "", lights.want.gain)
    return measured.e_per_adu if measured else lights.facts.electrons_per_adu


def light_terms(library: Library, rig: Rig, lights: LightSet) -> Terms:
    """On what terms a set of lights is served: how many they are and how noisy their background is."""
    conversion, noise_adu = electrons_per_adu(library, lights), lights.row.noise_adu
    background = noise_adu * conversion if noise_adu is not None and conversion else None
    terms = terms_of(library, rig, lights.want.gain)
    return replace(terms, lights=LightsNoise(max(lights.row.n_kept, 1), background))


def slip_for(library: Library, rig: Rig, lights: LightSet) -> PullSlip:
    """The pull slip of a set of lights."""
    slip = pull_slip(
        lights.want,
        holdings(library, rig.camera),
        light_terms(library, rig, lights),
        calibrated=lights.facts.calibrated,
        pedestal_adu=lights.facts.pedestal_adu,
    )
    warning = offset_warning(library, rig.camera, lights.want.gain, lights.want.offset)
    return slip if warning is None else replace(slip, warnings=(*slip.warnings, str(warning)))


def rig_of(session: Session, row: FrameSet) -> Rig | None:
    """The rig that took a set: its camera and telescope; frames that name no telescope, the camera's first rig."""
    rigs = list(session.scalars(select(Rig).where(Rig.camera == (row.camera or "")).order_by(Rig.id)))
    telescope = plain_name(row.facts.get("telescope"))
    same = [rig for rig in rigs if plain_name(rig.telescope) == telescope]
    return next(iter(same or (rigs if telescope is None else [])), None)


def rig_of_lights(session: Session, row: FrameSet) -> Rig:
    """The rig that took a set of lights."""
    rig = rig_of(session, row)
    if rig is None:
        raise GrayShelfError("No rig is known for these lights.", "Scan their folder again.")
    return rig


@dataclass(frozen=True)
class Gap:
    """A master that some lights ask for and nobody has made."""

    key: tuple[object, ...]
    kind: FrameKind
    want: CommonSettings
    lights: int
    sets: tuple[LightSet, ...]
    care_only: bool
    """Something fits with care: the gap is a wish to renew, not a hole."""
    nearest: str
    """What came nearest and why it lost."""

    @property
    def targets(self) -> tuple[str, ...]:
        """Targets that wait, in order."""
        return tuple(dict.fromkeys(s.facts.target or "no target" for s in self.sets))


@kept(16)
def _slips(library: Library, revision: int, rig_id: int) -> list[tuple[LightSet, PullSlip]]:
    with library.db.own_session() as session:
        rig = library.rig(session, rig_id)
        return [(lights, slip_for(library, rig, lights)) for lights in light_sets(session, rig)]


def slips(library: Library, rig_id: int) -> list[tuple[LightSet, PullSlip]]:
    """Every light set of a rig with its slip; kept until the shelf changes."""
    return _slips(library, library.revision, rig_id)


def forget_slips() -> None:
    """A rule changed (a tolerance, an event): all slips are to be written anew."""
    _slips.cache_clear()
    _holdings.cache_clear()


@dataclass(frozen=True)
class _Waiting:
    """Lights that wait for a master."""

    lights: LightSet
    want: CommonSettings
    care_only: bool
    nearest: str


def gaps(library: Library, rig_id: int, *, with_care: bool = False) -> list[Gap]:
    """What lights wait for, the most waited for first.

    Parameters
    ----------
    with_care
        Also what fits with care only.
    """
    with library.db.own_session() as session:
        tolerance_deg = tolerances_of(library.rig(session, rig_id)).flat_angle_deg
    found: dict[tuple[object, ...], list[list[_Waiting]]] = {}
    for lights, slip in slips(library, rig_id):
        for line in slip.lines:
            if line.waits_for is not None or line.kind is FrameKind.BIAS:
                continue
            hole = line.verdict is Verdict.NOTHING
            if not hole and not (with_care and line.verdict is Verdict.CARE):
                continue
            nearest = _nearest(line.runners_up, line.lost_on)
            if not hole:
                nearest = "; ".join(line.chosen.reasons) if line.chosen is not None else line.note
            want = _nominal(lights)
            if line.kind is FrameKind.DARK_FLAT:
                want = _flat_of(slip)
            alike = found.setdefault(gap_key(line.kind, want), [])
            waiting = next((g for g in alike if same_gap(line.kind, g[0].want, want, tolerance_deg)), None)
            if waiting is None:
                alike.append(waiting := [])
            waiting.append(_Waiting(lights, want, not hole, nearest))
    result = []
    for key, groups in found.items():
        for number, group in enumerate(groups):
            sets = tuple(w.lights for w in group)
            result.append(
                Gap(
                    (*key, number),
                    FrameKind(str(key[0])),
                    group[-1].want,
                    sum(s.row.n_kept for s in sets),
                    sets,
                    care_only=all(w.care_only for w in group),
                    nearest=group[-1].nearest,
                )
            )
    return sorted(result, key=lambda g: (g.care_only, -g.lights, repr(g.key)))


def _flat_of(slip: PullSlip) -> CommonSettings:
    """The settings of the flat whose dark flat is missing."""
    flat = next(line for line in slip.lines if line.kind is FrameKind.FLAT)
    assert flat.chosen is not None
    return flat.chosen.holding.settings


def _nominal(lights: LightSet) -> CommonSettings:
    temp = nominal_temperature(lights.facts.sensor_temp_c, lights.facts.set_temp_c)
    return replace(lights.want, sensor_temp_c=temp)


def _nearest(runners_up: Sequence[Any], lost_on: Sequence[str]) -> str:
    return lost_on[0] if runners_up else "none on the shelf"
