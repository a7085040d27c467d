"""The page Intake: folders, what they hold, what could not be read, and the sets that frames fell into."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Container
from pathlib import Path
from typing import Literal
from zoneinfo import ZoneInfo, available_timezones

from sqlalchemy import Boolean, ColumnElement, case, func, literal_column, select
from sqlalchemy.orm import Session, joinedload

from grayshelf.core.errors import Conflict, FolderRefused, NotFound
from grayshelf.core.frames.sets import nominal_exposure, nominal_temperature
from grayshelf.library import missing
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.folders import named_folder
from grayshelf.library.holdings import believed, missing_by_set, missing_in_words
from grayshelf.library.kept import kept
from grayshelf.library.left_out import made_of_each
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, FrameSet, Job, Rig
from grayshelf.library.records import read
from grayshelf.library.rig_terms import gain_word
from grayshelf.library.step_records import ScanJob
from grayshelf.web.common import in_words
from grayshelf.web.common.jobs import job_out
from grayshelf.web.common.schemas import JobOut
from grayshelf.web.intake.schemas import (
    CountOut,
    FolderOut,
    IntakeOut,
    ProblemOut,
    ProblemsOut,
    RigZoneOut,
    SetOut,
    SetsOut,
)
from grayshelf.work.build import FEWEST
from grayshelf.work.jobs import ALIVE, JobState

PAGE = 100
TO_LOOK_AT = ("missing", "unreadable", "lacking", "duplicate")
#: A frame’s state as it is told: whatever it is in itself, while its file is missing it is missing.
_TOLD = case((Frame.missing_since.is_not(None) & (Frame.state != "gone"), "missing"), else_=Frame.state)
#: As the index `ix_frame_to_look_at` has it, so that not every frame is read.
_TO_LOOK_AT: ColumnElement[bool] = literal_column(
    "(frame.missing_since IS NOT NULL OR frame.state IN ('lacking', 'unreadable', 'duplicate')) "
    "AND frame.state != 'gone'",
    Boolean,
)
_ORDER = {"light": 0, "flat": 1, "dark flat": 2, "dark": 3, "bias": 4}


def intake_page(library: Library) -> IntakeOut:
    """Folders and the site."""
    with library.db.session() as session:
        site = library.site(session)
        folders = session.scalars(select(Folder).order_by(Folder.id)).all()
        newest = session.scalar(select(func.max(Frame.id))) or 0
        counts = _counts(library, library.revision, newest)
        jobs = session.scalars(
            select(Job).where(Job.kind == "scan", Job.state.in_((*ALIVE, JobState.INTERRUPTED)))
        ).all()
        by_folder = {read(ScanJob, j.params).folder_id: job_out(j, library) for j in jobs}
        zone = library.zone(session)
        told = {f.id: _folder_out(f, counts.get(f.id, {}), by_folder.get(f.id), zone) for f in folders}
        return IntakeOut(
            site=site["name"],
            time_zone=site["time_zone"],
            latitude=site["latitude"],
            longitude=site["longitude"],
            zones=sorted(available_timezones()),
            rig_zones=[
                RigZoneOut(rig_id=r.id, name=r.name, time_zone=r.time_zone)
                for r in session.scalars(select(Rig).order_by(Rig.id))
            ],
            folders=[told[f.id] for f in folders if not f.own],
            own=next(told[f.id] for f in folders if f.own),
        )


@kept(2)
def _counts(
    library: Library, revision: int, newest_frame: int
) -> dict[int, dict[tuple[str, str | None], int]]:
    """Frames by folder, by state and kind; counted anew where the shelf changed or frames came."""
    counts: dict[int, dict[tuple[str, str | None], int]] = defaultdict(dict)
    with library.db.own_session() as session:
        for folder_id, state, kind, count in session.execute(
            select(Frame.folder_id, _TOLD, Frame.kind, func.count()).group_by(
                Frame.folder_id, _TOLD, Frame.kind
            )
        ):
            counts[folder_id][(state, kind)] = count
    return counts


def _folder_out(
    folder: Folder, counts: dict[tuple[str, str | None], int], job: JobOut | None, zone: ZoneInfo
) -> FolderOut:
    def of(states: Container[str]) -> int:
        return sum(n for (state, _), n in counts.items() if state in states)

    return FolderOut(
        id=folder.id,
        path=folder.path,
        scanned=f"{folder.scanned_at.astimezone(zone):%-d %b, %H:%M}" if folder.scanned_at else None,
        trouble=folder.trouble,
        passed_over=passed_over_in_words(folder.passed_over),
        total=sum(n for (state, _), n in counts.items() if state != "gone"),
        kinds=_kinds(counts),
        to_look_at=of(TO_LOOK_AT),
        missing=of(("missing",)),
        job=job,
    )


#: Endings of files that hold pictures which cannot be read yet, by what they are.
_CANNOT_READ = {
    "camera raw": (".cr2", ".cr3", ".nef", ".arw", ".dng", ".raf", ".orf", ".rw2", ".pef", ".raw"),
    "TIFF": (".tif", ".tiff"),
    "packed": (".z", ".zip", ".bz2", ".xz", ".7z", ".rar", ".tar", ".tgz", ".lz4", ".zst"),
    "picture": (".jpg", ".jpeg", ".png"),
}


def passed_over_in_words(endings: dict[str, int]) -> str:
    """What else was seen in a folder: '38 camera raw files (.cr2) were seen; they cannot be read yet.'"""
    parts = []
    for what, known in _CANNOT_READ.items():
        here = {e: n for e, n in sorted(endings.items()) if e in known}
        if here:
            parts.append(f"{in_words.several(sum(here.values()), f'{what} file')} ({', '.join(here)})")
    if not parts:
        return ""
    one = sum(n for e, n in endings.items() if any(e in known for known in _CANNOT_READ.values())) == 1
    return f"{in_words.listed(parts)} {'was' if one else 'were'} seen; {'it' if one else 'they'} cannot be read yet."


def _kinds(counts: dict[tuple[str, str | None], int]) -> list[CountOut]:
    totals: dict[str, int] = defaultdict(int)
    for (state, kind), count in counts.items():
        if kind is not None and state in ("good", "lacking"):
            totals[kind] += count
    plural = {"light": "lights", "flat": "flats", "dark flat": "dark flats", "dark": "darks", "bias": "bias"}
    return [CountOut(name=plural[k], count=totals[k]) for k in sorted(totals, key=lambda k: _ORDER[k])]


def add_folder(library: Library, text: str) -> int:
    """Put a folder on the list; nothing in it is ever changed.

    Raises
    ------
    GrayShelfError, FolderRefused
    """
    real = named_folder(text)
    if real == library.root or real.is_relative_to(library.root) or library.root.is_relative_to(real):
        raise FolderRefused(
            f"{real} holds, or lies in, the library’s own folder, whose frames are on the shelf already.",
            "Name another folder.",
        )
    with library.db.session() as session:
        others = session.scalars(select(Folder).where(Folder.own.is_(False))).all()
        for other in others:
            if real == Path(other.path):
                return other.id
            if real.is_relative_to(other.path):
                raise FolderRefused(
                    f"{real} lies in {other.path}, which is on the list.", "Scan that one again."
                )
            if Path(other.path).is_relative_to(real):
                raise FolderRefused(
                    f"{other.path}, which is on the list, lies in {real}.", "Take it off the list first."
                )
        folder = Folder(path=str(real), added_at=library.clock.now())
        session.add(folder)
        session.flush()
        return folder.id


def forget_folder(library: Library, folder_id: int) -> str:
    """Take a folder off the list: its frames leave the library, its files are not touched."""
    with library.db.session() as session:
        folder = _folder(session, folder_id)
        going = session.scalars(select(Job).where(Job.kind == "scan", Job.state.in_(ALIVE)))
        if any(read(ScanJob, job.params).folder_id == folder_id for job in going):
            raise Conflict(f"{folder.path} is being scanned.", "Stop the scan first.")
        path = folder.path
    missing.forget_frames(library, folder_id)
    with library.db.session() as session:
        session.delete(_folder(session, folder_id))
    library.touched()
    return path


def _folder(session: Session, folder_id: int) -> Folder:
    folder = session.get(Folder, folder_id)
    if folder is None or folder.own:
        raise NotFound("This folder is not on the list.")
    return folder


def problems_page(library: Library, page: int, state: str) -> ProblemsOut:
    """Files that could not be read, lack a value that matters, or are missing."""
    with library.db.session() as session:
        zone = library.zone(session)
        counts: dict[str, int] = dict(
            session.execute(select(_TOLD, func.count()).where(_TO_LOOK_AT).group_by(_TOLD)).all()
        )
        where = _TO_LOOK_AT & _TOLD.in_((state,)) if state in TO_LOOK_AT else _TO_LOOK_AT
        total = counts.get(state, 0) if state in TO_LOOK_AT else sum(counts.values())
        rows = session.scalars(
            select(Frame)
            .where(where)
            .order_by(_TOLD.desc(), Frame.path)
            .offset((page - 1) * PAGE)
            .limit(PAGE)
        ).all()
        return ProblemsOut(
            items=[_problem_out(f, zone) for f in rows],
            total=total,
            page=page,
            pages=max(1, -(-total // PAGE)),
            counts=[CountOut(name=name, count=counts[name]) for name in TO_LOOK_AT if name in counts],
        )


def _problem_out(frame: Frame, zone: ZoneInfo) -> ProblemOut:
    state, reason, advice = frame.state, frame.reason, frame.advice
    if frame.missing_since is not None:
        state = "missing"
        reason = f"Not where it was since {frame.missing_since.astimezone(zone):%-d %b %Y, %H:%M}."
        advice = "It keeps its set and its master. Bring the file back and scan again, or let the missing go."
    return ProblemOut(
        id=frame.id, path=frame.path, folder_id=frame.folder_id, state=state, reason=reason, advice=advice
    )


def problem_csv_rows(library: Library) -> list[list[object]]:
    """All files to look at."""
    with library.db.session() as session:
        zone = library.zone(session)
        rows = session.scalars(
            select(Frame).where(_TO_LOOK_AT).order_by(_TOLD, Frame.path).options(joinedload(Frame.folder))
        )
        told = [(f.folder.path, _problem_out(f, zone)) for f in rows]
        return [
            ["folder", "file", "state", "reason", "advice"],
            *(list[object]((folder, p.path, p.state, p.reason, p.advice)) for folder, p in told),
        ]


def let_go(library: Library, folder_id: int) -> int:
    """Let go of what is missing in a folder, the library's own included."""
    with library.db.session() as session:
        if session.get(Folder, folder_id) is None:
            raise NotFound("This folder is not on the list.")
    count = missing.let_go(library, folder_id)
    library.touched()
    return count


def set_title(row: FrameSet, word: str) -> str:
    """'300 s, −10 °C, gain 200', 'SII, 7.4 s, gain 200', 'NGC 281, Ha, 300 s'."""
    facts = facts_from_json(row.facts)
    parts: list[str] = []
    if row.kind == "light":
        parts.append(facts.target or "no target")
    if row.kind in ("light", "flat"):
        parts.append(facts.filter_code or ("colour" if facts.bayer_pattern else "no filter"))
    if facts.exposure_s is not None and row.kind != "bias":
        parts.append("of the sky" if facts.of_sky else in_words.seconds(nominal_exposure(facts.exposure_s)))
    temp = nominal_temperature(facts.sensor_temp_c, facts.set_temp_c)
    if row.kind == "dark" and temp is not None:
        parts.append(in_words.degrees_c(temp))
    if facts.gain is not None:
        parts.append(f"{word} {in_words.plain(facts.gain)}")
    if row.measurement_id is not None:
        parts.append(
            "shot for the Bench" if facts.gain is None or facts.offset is None else "read by the Bench"
        )
    return ", ".join(parts)


def sets_page(library: Library, page: int, kind: str) -> SetsOut:
    """The sets that frames fell into, newest first."""
    buildable = (
        FrameSet.kind.in_(("bias", "dark", "flat", "dark flat"))
        & FrameSet.is_master.is_(False)
        & FrameSet.master_set_id.is_(None)
        & FrameSet.measurement_id.is_(None)
        & (FrameSet.n_kept >= FEWEST)
    )
    with library.db.session() as session:
        where = FrameSet.kind == kind if kind else FrameSet.kind != ""
        total = session.scalar(select(func.count()).select_from(FrameSet).where(where)) or 0
        rows = session.scalars(
            select(FrameSet)
            .where(where)
            .order_by(FrameSet.night.desc(), FrameSet.kind, FrameSet.id)
            .offset((page - 1) * PAGE)
            .limit(PAGE)
        ).all()
        to_build = session.scalar(select(func.count()).select_from(FrameSet).where(buildable)) or 0
        missing_now = missing_by_set(session)

        def shown(row: FrameSet) -> SetOut:
            return _set_out(row, gain_word(library, row.camera or ""), missing_now.get(row.id, 0))

        return SetsOut(
            items=list(made_of_each(library, "sets", rows, shown).values()),
            total=total,
            page=page,
            pages=max(1, -(-total // PAGE)),
            to_build=to_build,
        )


def _set_out(row: FrameSet, word: str, missing_now: int) -> SetOut:
    raw = not row.is_master and row.kind != "light"
    state = (
        "master"
        if row.is_master
        else "lights"
        if row.kind == "light"
        else "combined"
        if row.master_set_id
        else "for the Bench"
        if row.measurement_id
        else "loose"
    )
    return SetOut(
        id=row.id,
        kind=row.kind,
        title=set_title(row, word),
        camera=row.camera or "no camera",
        night=in_words.day(row.night),
        n_frames=row.n_frames,
        state=state,
        can_build=raw and row.master_set_id is None and row.measurement_id is None and row.n_kept >= FEWEST,
        origin=row.facts.get("night_from", ""),
        from_name=_from_name(row, word),
        names_say=_names_say(row),
        missing=missing_in_words(missing_now, row) if missing_now else "",
    )


def _from_name(row: FrameSet, word: str) -> list[str]:
    """What only the files' names say of a set, with its value."""
    facts = facts_from_json(row.facts)
    values = {
        "kind of frame": row.kind,
        "gain": None if facts.gain is None else f"{word} {in_words.plain(facts.gain)}",
        "offset": None if facts.offset is None else f"offset {in_words.plain(facts.offset)}",
        "binning": None if facts.binning_x is None else f"binning {facts.binning_x}",
        "exposure": None if facts.exposure_s is None else in_words.seconds(facts.exposure_s),
        "temperature": None if facts.sensor_temp_c is None else in_words.degrees_c(facts.sensor_temp_c),
    }
    return [values[q] or q for q in facts.from_name]


def _names_say(row: FrameSet) -> Literal["in doubt", "agree", "right", "wrong"] | None:
    facts = facts_from_json(row.facts)
    if not facts.from_name:
        return None
    said = {row.said.get(q) for q in facts.from_name}
    if said == {True}:
        return "right"
    if False in said:
        return "wrong"
    return "in doubt" if believed(row, facts)[1] else "agree"


def say_of_names(library: Library, set_id: int, right: bool | None) -> str:
    """Keep whether what the files' names say of a set is right."""
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None:
            raise NotFound("This set is no longer in the library.")
        named = facts_from_json(row.facts).from_name
        if not named:
            raise Conflict("Everything that is known of this set is in its headers.")
        row.said = {} if right is None else dict.fromkeys(named, right)
        words = in_words.listed(named)
    library.touched()
    if right is None:
        return f"What was said of the {words} in its names is taken back."
    return f"The {words} in its names {'is kept as right' if right else 'counts as not known'}."


def sets_to_build(library: Library, wanted: list[int] | None) -> list[int]:
    """Numbers of the sets to combine: those wanted, or all that can be."""
    with library.db.session() as session:
        query = select(FrameSet.id).where(
            FrameSet.kind.in_(("bias", "dark", "flat", "dark flat")),
            FrameSet.is_master.is_(False),
            FrameSet.master_set_id.is_(None),
            FrameSet.measurement_id.is_(None),
            FrameSet.n_kept >= FEWEST,
        )
        if wanted is not None:
            query = query.where(FrameSet.id.in_(wanted))
        found = list(session.scalars(query))
    if not found:
        raise Conflict("There is nothing to combine: the sets have their masters, or have too few frames.")
    return found
