"""The page Mend in words: what is lacking, what was said, and what would change."""

from __future__ import annotations

from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.name_pattern import NamePattern, NameRead, name_pattern
from grayshelf.core.filing.parts import PARTS
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.said import WORDS, Saying, checked
from grayshelf.library.choosing import MAY_LACK, Choice, lacking_groups
from grayshelf.library.kinds_doubted import doubted_kinds
from grayshelf.library.library import Library
from grayshelf.library.mending import all_said
from grayshelf.library.models import Folder, Frame, MendedFrame, Mending, RigFilter
from grayshelf.library.rig_terms import gain_word
from grayshelf.library.targets_proposed import proposed_targets
from grayshelf.library.trains import standing_rigs
from grayshelf.web.common import in_words
from grayshelf.web.mending.schemas import (
    CellOut,
    DoubtedOut,
    FolderNamedOut,
    FramesMeantIn,
    LackingOut,
    MendIn,
    MendOut,
    MendPreviewOut,
    NamedOut,
    PreviewRowOut,
    SaidOut,
    SayingIn,
    TargetProposedOut,
    TrainOut,
)
from grayshelf.work.mending import FrameBefore, SaidOf, preview, said_of_all, says_nothing, words_of

#: Groups of frames that lack something, and acts of saying, that the page shows; the CSV has all.
MOST_SHOWN = 200


def mend_page(library: Library) -> MendOut:
    """What is lacking, what was said, and what there is to choose from."""
    with library.db.session() as session:
        groups = lacking_groups(session)
        zone = library.zone(session)
        rigs = session.scalars(standing_rigs()).all()
        doubted = doubted_kinds(library, library.revision)
        proposed = proposed_targets(library, library.revision)
        return MendOut(
            lacking=[
                LackingOut(
                    folder_id=g.folder_id,
                    folder=g.folder,
                    below=g.below,
                    kind=g.kind or "",
                    camera=g.camera or "",
                    lacks=list(g.lacks),
                    frames=g.frames,
                    example=g.example,
                )
                for g in groups[:MOST_SHOWN]
            ],
            lacking_frames=sum(g.frames for g in groups),
            doubted=[DoubtedOut(**vars(d)) for d in doubted[:MOST_SHOWN]],
            doubted_frames=sum(d.frames for d in doubted),
            targets=[TargetProposedOut(**vars(p)) for p in proposed[:MOST_SHOWN]],
            folders=folders_to_choose(session),
            cameras=[
                c
                for c in session.scalars(select(Frame.camera).distinct().order_by(Frame.camera))
                if c is not None
            ],
            filters=list(session.scalars(select(RigFilter.code).distinct().order_by(RigFilter.code))),
            trains=[
                TrainOut(
                    rig=r.name, camera=r.camera, telescope=r.telescope or "", focal_length_mm=r.told_focal_mm
                )
                for r in rigs
            ],
            kinds=[k.value for k in FrameKind],
            may_lack=list(MAY_LACK),
            parts=[NamedOut(key=p.key, label=p.label) for p in PARTS.values()],
            said=[_said_out(m, zone) for m in all_said(session)[:MOST_SHOWN]],
        )


def folders_to_choose(session: Session) -> list[FolderNamedOut]:
    """The folders that frames are chosen from; the library's own stands last."""
    return [
        FolderNamedOut(id=f.id, path=f.path, label="What was shot and fetched here" if f.own else f.path)
        for f in session.scalars(select(Folder).order_by(Folder.own, Folder.path))
    ]


def _said_out(mending: Mending, zone: ZoneInfo) -> SaidOut:
    back = mending.taken_back_at
    return SaidOut(
        id=mending.id,
        on=f"{mending.said_at.astimezone(zone):%-d %b %Y, %H:%M}",
        words=mending.words,
        of=mending.of,
        n_frames=mending.n_frames,
        taken_back=f"{back.astimezone(zone):%-d %b %Y, %H:%M}" if back is not None else "",
    )


def frames_meant(asked: FramesMeantIn) -> Choice:
    """The frames that are meant.

    Raises
    ------
    GrayShelfError
        Where they are chosen by what no frame lacks.
    """
    if asked.lacks and asked.lacks not in MAY_LACK:
        raise GrayShelfError(f"No frame can lack ‘{asked.lacks}’.")
    return Choice(**asked.model_dump())


def _saying(said: SayingIn) -> Saying:
    plain = said.model_dump()
    return Saying(**{k: v for k, v in plain.items() if not isinstance(v, str) or v.strip()})


def said_of(library: Library, asked: MendIn) -> tuple[SaidOf, str]:
    """What is said of each frame, and that in words.

    Raises
    ------
    GrayShelfError
        Where it makes no sense, or nothing is said.
    """
    saying, word = _saying(asked.saying), gain_word(library, asked.choice.camera)
    if asked.pattern.strip():
        pattern = name_pattern(asked.pattern)
        saying = checked(saying) if saying.says else saying
        words = [w for w in (words_of(saying, asked.kept, word), f"read by ‘{asked.pattern.strip()}’") if w]
        return _by_name(pattern, saying), ", ".join(words)
    if asked.kept is None or saying.says:
        saying = checked(saying)
    return said_of_all(saying), words_of(saying, asked.kept, word)


def _by_name(pattern: NamePattern, also: Saying) -> SaidOf:
    def told(path: str) -> NameRead:
        found = pattern.read(path)
        return found if found.saying is None else NameRead(found.saying.then(also))

    return told


def _nothing_said(asked: MendIn) -> bool:
    return not _saying(asked.saying).says and not asked.pattern.strip() and asked.kept is None


def preview_page(library: Library, asked: MendIn) -> MendPreviewOut:
    """What would change; where what is said makes no sense, the frames that are chosen and what is wrong."""
    trouble, advice = "", ""
    told: SaidOf = says_nothing
    words = ""
    if not _nothing_said(asked):
        try:
            told, words = said_of(library, asked)
        except GrayShelfError as error:
            trouble, advice = error.message, error.advice
    found = preview(library, frames_meant(asked.choice), told, asked.kept)
    with library.db.session() as session:
        zone = library.zone(session)
    names = _columns(found.names, asked)
    return MendPreviewOut(
        frames=found.frames,
        said=found.said if words else 0,
        changed=found.changed,
        against=found.against,
        words=words,
        columns=[_column_word(n, gain_word(library, asked.choice.camera)) for n in names],
        rows=[_row(r, names, asked.kept, zone) for r in found.shown],
        trouble=trouble,
        advice=advice,
    )


#: Shown of frames while nothing is said of them yet.
_USUAL = ("kind", "filter_code", "exposure_s", "gain", "sensor_temp_c", "night")


def _columns(names: tuple[str, ...], asked: MendIn) -> list[str]:
    shown = [n for n in WORDS if n in names and n not in ("is_master", "night")]
    if "night" in names or "clock_s" in names:
        shown.append("night")
    if asked.kept is not None:
        shown.append("kept")
    return shown or list(_USUAL)


def _column_word(name: str, word: str) -> str:
    return {"gain": word, "clock_s": "time (UTC)", "kept": "kept"}.get(name, WORDS.get(name, name))


def _row(row: FrameBefore, names: list[str], kept: bool | None, zone: ZoneInfo) -> PreviewRowOut:
    cells = []
    for name in names:
        if name == "kept":
            now = "no" if row.rejected else "yes"
            cells.append(CellOut(now=now, then=now if row.then is None else "yes" if kept else "no"))
            continue
        now = value_text(row.now, name)
        cells.append(CellOut(now=now, then=now if row.then is None else value_text(row.then, name)))
    return PreviewRowOut(path=row.path, cells=cells, why=row.why)


def value_text(facts: FrameFacts, name: str) -> str:
    """One value of a frame in words, by the name of what can be said; empty where it is not known."""
    if name == "kind":
        kind = facts.kind.value if facts.kind else ""
        return f"master {kind}" if kind and facts.is_master else kind
    if name == "clock_s":
        return "" if facts.utc is None else f"{facts.utc:%-d %b %Y, %H:%M:%S}"
    if name == "night":
        return "" if facts.night is None else in_words.day(facts.night)
    if name == "angle_deg":
        return "" if facts.angle is None else f"{in_words.number(facts.angle.deg, 1)}°"
    value = getattr(facts, "binning_x" if name == "binning" else name)
    if value is None:
        return ""
    if name == "exposure_s":
        return in_words.seconds(value)
    if name == "sensor_temp_c":
        return in_words.degrees_c(value)
    if name == "focal_length_mm":
        return f"{in_words.plain(value)} mm"
    return str(value) if isinstance(value, str) else in_words.plain(value)


def said_csv_rows(library: Library) -> list[list[object]]:
    """All that was said, a line for each frame."""
    with library.db.session() as session:
        zone = library.zone(session)
        query = select(MendedFrame, Mending).join(Mending, Mending.id == MendedFrame.mending_id)
        rows: list[list[object]] = [["said", "taken_back", "file", "what"]]
        for row, mending in session.execute(query.order_by(MendedFrame.mending_id, MendedFrame.file)):
            told = _said_out(mending, zone)
            plain = {k: v for k, v in row.says.items() if k not in ("kept", "on")}
            words = words_of(Saying.from_plain(plain), row.says.get("kept"), "gain")
            rows.append([told.on, told.taken_back, row.file, words])
        return rows
