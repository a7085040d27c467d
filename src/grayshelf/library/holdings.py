"""What stands on the shelf, in the words of matching."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import date
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session, selectinload

from grayshelf.core.checks.findings import NOTHING_IN_IT
from grayshelf.core.checks.frames import FULL_FLATS, care_with_flats
from grayshelf.core.checks.still_good import Serves
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.said import QUANTITIES
from grayshelf.core.frames.sets import held, nominal_exposure
from grayshelf.core.masters.calibrate import LEAST_NORM, NORM
from grayshelf.core.matching.capped_levels import with_levels_held
from grayshelf.core.matching.model import USUAL_FRAMES, CommonSettings, Holding
from grayshelf.core.matching.scaling import care_of_scaled
from grayshelf.core.matching.stock import Stock
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.kept import RowsKept, in_parts, kept
from grayshelf.library.left_out import forget_gone, made_of_each
from grayshelf.library.library import Library
from grayshelf.library.made_of import MadeOf, made_of_frames
from grayshelf.library.models import Frame, FrameSet, MasterRecord


def common_settings(frame_set: FrameSet, facts: FrameFacts) -> CommonSettings:
    """A set's settings in the words of matching."""
    facts, from_name = believed(frame_set, facts)
    return CommonSettings(
        camera=facts.camera,
        width=facts.width,
        height=facts.height,
        corner=facts.corner,
        binning=facts.binning,
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
        lens_stop=facts.lens_stop,
        filter_code=facts.filter_code,
        angle=facts.angle,
        focus=facts.focus,
        night=facts.night,
        taken=frame_set.last_utc,
        from_name=from_name,
        by_hand=frozenset(QUANTITIES[name] for name in facts.by_hand if name in QUANTITIES),
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
    "target": ("target",),
}


def believed(frame_set: FrameSet, facts: FrameFacts) -> tuple[FrameFacts, frozenset[str]]:
    """The facts as far as they are to be believed, and what of them is still in doubt.

    What only files' names say is in doubt until the frames of a set agree or a person has said that it is right; what
    a person said to be wrong is not known.
    """
    wrong = {q for q, right in frame_set.said.items() if right is False}
    unknown = {name: None for q in wrong for name in _NAMED_FIELDS.get(q, ())}
    # A master that was built here is of frames that agreed.
    of_one_mind = not frame_set.is_master or (frame_set.record is not None and frame_set.record.built_here)
    agreed = of_one_mind and frame_set.n_frames >= AGREE_FROM
    doubted = () if agreed else facts.from_name
    if unknown:
        facts = replace(facts, **unknown)  # type: ignore[arg-type]
    return facts, frozenset(q for q in doubted if q not in frame_set.said)


def _frames_of(frame_set: FrameSet, facts: FrameFacts, made_of: MadeOf | None) -> tuple[int, bool]:
    """Of how many frames a set or master is, and whether that is known: not each program that combines says so."""
    if not frame_set.is_master or facts.n_combined is not None:
        return frame_set.n_frames, True
    return (USUAL_FRAMES, False) if made_of is None else (made_of.n_frames, True)


def _signal_e(frame_set: FrameSet, facts: FrameFacts, made_of: MadeOf | None) -> float | None:
    """Of one frame of a flat, electrons."""
    level = frame_set.level_adu if made_of is None or made_of.level_adu is None else made_of.level_adu
    signal = level * facts.electrons_per_adu if level and facts.electrons_per_adu else None
    return signal if frame_set.kind == "flat" and signal and signal > 0 else None


def holding_of(frame_set: FrameSet, made_of: MadeOf | None = None, missing: int = 0) -> Holding:
    """A set or master in the words of matching.

    Parameters
    ----------
    missing
        How many of its files are not where they were.
    made_of
        For a master: the frames that it was made of, where they are here.
    """
    facts = facts_from_json(frame_set.facts)
    record = frame_set.record
    settings = common_settings(frame_set, facts)
    care = list(record.care) if record else []
    held_against = record.figures.get(HELD) if record else None
    if held_against:
        settings, more = _as_held(settings, held_against)
        care += more
    if "kind of frame" in settings.from_name:
        care.append(f"that it is a {frame_set.kind} is only in the name of its file or folder")
    if facts.calibrated and facts.kind in (FrameKind.DARK, FrameKind.DARK_FLAT):
        care.append(BIAS_TAKEN_OFF)
    if facts.scaled_from_s is not None:
        care.append(care_of_scaled(facts.scaled_from_s, settings.exposure_s))
    if missing:
        care.append(missing_in_words(missing, frame_set))
    if frame_set.kind == "flat" and not frame_set.is_master:
        care += care_with_flats(frame_set.level_adu, facts.full_adu)
    n_frames, counted = _frames_of(frame_set, facts, made_of)
    return Holding(
        key=str(frame_set.id),
        kind=FrameKind(frame_set.kind),
        settings=settings,
        n_frames=n_frames,
        count_known=counted,
        is_master=frame_set.is_master,
        care=tuple(care),
        empty=NOTHING_IN_IT in care,
        spoiled=FULL_FLATS in care or BIAS_TAKEN_OFF in care,
        level_adu=_level_adu(frame_set, record),
        pedestal_taken_off=_pedestal_taken_off(record, facts) or None,
        pedestal_adu=facts.pedestal_adu,
        pedestal_is_bias=bool(record and record.pedestal_kind == FrameKind.BIAS),
        signal_e=_signal_e(frame_set, facts, made_of),
        scaled_from_s=facts.scaled_from_s,
    )


def _level_adu(frame_set: FrameSet, record: MasterRecord | None) -> float | None:
    """About the middle of a frame: as it was looked at when it came in, or as the figures of a master tell."""
    figures = record.figures.get("list") if record else None
    if frame_set.level_adu is not None or not figures or figures[0]["unit"] != "ADU":
        return frame_set.level_adu
    return float(figures[0]["value"])


#: Of a capped frame: taken off lights, it leaves their pedestal.
BIAS_TAKEN_OFF = "a bias was taken off it before, so that it leaves the pedestal in what it is taken off"


def _pedestal_taken_off(record: MasterRecord | None, facts: FrameFacts) -> bool:
    """Whether a flat has no pedestal any more: by its record, its level, or its header."""
    if record is not None and (record.pedestal_kind or _is_of_norm(record)):
        return True
    return facts.kind is FrameKind.FLAT and facts.calibrated


def _is_of_norm(record: MasterRecord) -> bool:
    """Whether a flat of another program was divided by its own level, as it was found when it was looked at: then its pedestal
    was taken off first. One that holds shares of full scale lies lower, and tells nothing of its pedestal."""
    figures = [] if record.built_here else record.figures.get("list") or []
    return bool(figures) and LEAST_NORM < figures[0]["value"] < NORM and figures[0]["unit"] != "ADU"


#: Under which name a master's record keeps how it did when it was last held against a newer one.
HELD = "held"


def _as_held(settings: CommonSettings, held_against: dict[str, Any]) -> tuple[CommonSettings, list[str]]:
    """What follows from its having been held against a newer one: it is as new as then, or is used with care."""
    night = date.fromisoformat(held_against["night"])
    if held_against["serves"] == Serves.GOOD:
        return replace(settings, good_on=night), []
    return settings, [f"{held_against['line']} by {night:%-d %b %y}"]


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


#: The shelf's sets as rows: what a holding is made of changes where one of these does.
_ON_SHELF = """
    SELECT s.id, s.camera, s.kind, s.is_master, s.n_frames, s.facts, s.said, s.level_adu, s.sample_step, s.last_utc,
        r.care, r.pedestal_kind, CASE WHEN json_valid(r.figures) THEN json_extract(r.figures, '$.held') END,
        CASE WHEN json_valid(r.figures) THEN json_extract(r.figures, '$.list[0]') END
    FROM frame_set AS s
    LEFT JOIN master_record AS r ON r.set_id = s.id
    WHERE s.kind != 'light' AND s.master_set_id IS NULL AND NOT s.taken_off AND s.measurement_id IS NULL
    ORDER BY s.id
"""


@kept(4)
def holdings_made(library: Library) -> RowsKept[tuple[str, Holding]]:
    """Holdings as they were last made, by set; a library's own."""
    return RowsKept()


@kept(4)
def _stocks(library: Library, revision: int) -> dict[str, Stock]:
    """Everything on the shelf by camera; kept until the shelf changes, and then only what changed is made anew."""
    with library.db.own_session() as session:
        forget_gone(library, session)
        missing = missing_by_set(session)
        made_of = made_of_frames(session)
        rows = {
            row[0]: (*row[1:], made_of.get(row[0]), missing.get(row[0], 0))
            for row in session.connection().exec_driver_sql(_ON_SHELF)
        }

        def holding(row: FrameSet) -> tuple[str, Holding]:
            return row.camera or "", holding_of(row, made_of.get(row.id), missing.get(row.id, 0))

        def make(ids: Sequence[int]) -> dict[int, tuple[str, Holding]]:
            found: dict[int, tuple[str, Holding]] = {}
            for part in in_parts(ids):
                sets = session.scalars(
                    select(FrameSet).where(FrameSet.id.in_(part)).options(selectinload(FrameSet.record))
                )
                found |= made_of_each(library, "shelf", sets, holding)
            return found

        by_camera: dict[str, list[Holding]] = {}
        for camera, one in holdings_made(library).renewed(rows, make):
            by_camera.setdefault(camera, []).append(one)
    return {camera: Stock(with_levels_held(found)) for camera, found in by_camera.items()}


def stock(library: Library, camera: str) -> Stock:
    """Masters, and sets not yet combined, of one camera."""
    return _stocks(library, library.revision).get(camera) or Stock()


def holdings(library: Library, camera: str) -> Sequence[Holding]:
    """The same, one after the other."""
    return stock(library, camera).holdings
