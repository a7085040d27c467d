"""What stands on the shelf, what lights pull from it, and what is missing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from functools import lru_cache
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.settings import FlatWishes, wishes_from
from grayshelf.core.frames.facts import FrameFacts, uses_iso
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.sets import nominal_exposure, nominal_temperature
from grayshelf.core.matching.match import gap_key, pull_slip
from grayshelf.core.matching.model import (
    CommonSettings,
    Holding,
    PullSlip,
    SensorTraits,
    Tolerances,
    TrainEvent,
    Verdict,
)
from grayshelf.core.matching.rig_events import RigEventKind
from grayshelf.core.sensor.checked import PairWarning, pair_warning
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.library import Library
from grayshelf.library.measurements import checked_offsets, measured_gain
from grayshelf.library.models import FrameSet, Rig


def common_settings(frame_set: FrameSet, facts: FrameFacts) -> CommonSettings:
    """A set's settings in the words of matching."""
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
        train=facts.telescope,
        filter_code=facts.filter_code,
        angle=facts.angle,
        focus=facts.focus,
        night=facts.night,
        taken=frame_set.last_utc,
    )


def holding_of(frame_set: FrameSet) -> Holding:
    """A set or master in the words of matching."""
    facts = facts_from_json(frame_set.facts)
    record = frame_set.record
    return Holding(
        key=str(frame_set.id),
        kind=FrameKind(frame_set.kind),
        settings=common_settings(frame_set, facts),
        n_frames=frame_set.n_frames,
        is_master=frame_set.is_master,
        care=tuple(record.care) if record else (),
        pedestal_taken_off=True if record and record.pedestal_set_id is not None else None,
    )


@lru_cache(maxsize=4)
def _holdings(library: Library, revision: int) -> dict[str, list[Holding]]:
    """Everything on the shelf by camera; kept until the shelf changes."""
    by_camera: dict[str, list[Holding]] = {}
    with library.db.session() as session:
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
        for row in rows:
            by_camera.setdefault(row.camera or "", []).append(holding_of(row))
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


def offset_warning(
    library: Library, camera: str, gain: float | None, offset: float | None
) -> PairWarning | None:
    """What to say where an offset was never checked at a gain, or does not hold there."""
    word = "ISO" if uses_iso([gain]) else "gain"
    return pair_warning(gain, offset, checked_offsets(library, camera), word)


def events_of(rig: Rig) -> list[TrainEvent]:
    """What was done to the rig's train."""
    return [TrainEvent(e.at, e.what) for e in rig.events if RigEventKind(e.kind).ends_flats]


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
        if facts.telescope == rig.telescope:
            result.append(light_set(row, facts))
    return result


def light_set(row: FrameSet, facts: FrameFacts | None = None) -> LightSet:
    """One set of lights in the words of matching."""
    facts = facts or facts_from_json(row.facts)
    return LightSet(row, facts, common_settings(row, facts))


def slip_for(library: Library, rig: Rig, lights: LightSet) -> PullSlip:
    """The pull slip of a set of lights."""
    slip = pull_slip(
        lights.want,
        holdings(library, rig.camera),
        tolerances_of(rig),
        traits_at(library, rig, lights.want.gain),
        events_of(rig),
        calibrated=lights.facts.calibrated,
        pedestal_adu=lights.facts.pedestal_adu,
    )
    warning = offset_warning(library, rig.camera, lights.want.gain, lights.want.offset)
    return slip if warning is None else replace(slip, warnings=(*slip.warnings, str(warning)))


def rig_of_lights(session: Session, row: FrameSet) -> Rig:
    """The rig that took a set of lights."""
    telescope = row.facts.get("telescope")
    for rig in session.scalars(select(Rig).where(Rig.camera == (row.camera or ""))):
        if rig.telescope == telescope:
            return rig
    raise GrayShelfError("No rig is known for these lights.", "Scan their folder again.")


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


@lru_cache(maxsize=16)
def _slips(library: Library, revision: int, rig_id: int) -> list[tuple[LightSet, PullSlip]]:
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        return [(lights, slip_for(library, rig, lights)) for lights in light_sets(session, rig)]


def slips(library: Library, rig_id: int) -> list[tuple[LightSet, PullSlip]]:
    """Every light set of a rig with its slip; kept until the shelf changes."""
    return _slips(library, library.revision, rig_id)


def forget_slips() -> None:
    """A rule changed (a tolerance, an event): all slips are to be written anew."""
    _slips.cache_clear()
    _holdings.cache_clear()


def gaps(library: Library, rig_id: int, *, with_care: bool = False) -> list[Gap]:
    """What lights wait for, the most waited for first.

    Parameters
    ----------
    with_care
        Also what fits with care only.
    """
    found: dict[tuple[object, ...], list[tuple[LightSet, FrameKind, bool, str]]] = {}
    for lights, slip in slips(library, rig_id):
        for line in slip.lines:
            if line.kind not in (FrameKind.DARK, FrameKind.FLAT) or line.waits_for is not None:
                continue
            hole = line.verdict is Verdict.NOTHING
            if not hole and not (with_care and line.verdict is Verdict.CARE):
                continue
            nearest = _nearest(line.runners_up, line.lost_on) if hole else "; ".join(line.chosen.reasons)  # type: ignore[union-attr]
            key = gap_key(line.kind, _nominal(lights))
            found.setdefault(key, []).append((lights, line.kind, not hole, nearest))
    result = []
    for key, entries in found.items():
        sets = tuple(e[0] for e in entries)
        result.append(
            Gap(
                key,
                entries[0][1],
                _nominal(sets[-1]),
                sum(s.row.n_kept for s in sets),
                sets,
                care_only=all(e[2] for e in entries),
                nearest=entries[-1][3],
            )
        )
    return sorted(result, key=lambda g: (g.care_only, -g.lights, repr(g.key)))


def _nominal(lights: LightSet) -> CommonSettings:
    temp = nominal_temperature(lights.facts.sensor_temp_c, lights.facts.set_temp_c)
    return replace(lights.want, sensor_temp_c=temp)


def _nearest(runners_up: Sequence[Any], lost_on: Sequence[str]) -> str:
    return lost_on[0] if runners_up else "none on the shelf"
