"""The search in the rail: frames, nights, targets and masters by a word."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import column, select, table, text
from sqlalchemy.orm import Session

from grayshelf.library.kept import RowsKept, in_parts, kept
from grayshelf.library.left_out import made_of_each
from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet, Rig
from grayshelf.library.rig_terms import gain_word, rig_of
from grayshelf.library.trains import standing_rigs
from grayshelf.web.common import in_words
from grayshelf.web.intake.sets import set_title
from grayshelf.web.whole.schemas import FoundOut

MOST = 12
MOST_WORDS = 6
SHORTEST_IN_INDEX = 3
#: The index of files' names, kept by the database itself.
_WORDS = table("frame_words", column("rowid"), column("path"))


def find(library: Library, asked: str) -> list[FoundOut]:
    """What matches all words of `asked`, sets first, then single frames."""
    words = [word.lower() for word in asked.split() if word][:MOST_WORDS]
    if not words:
        return []
    found: list[Findable] = []
    for one in _sets(library, library.revision):
        if all(word in one.said for word in words):
            found.append(one)
            if len(found) >= MOST:
                break
    with library.db.session() as session:
        sets = [
            FoundOut(
                kind=one.kind,
                title=one.title,
                detail=one.detail,
                href=one.href,
                rig_ids=_rigs_of(session, one.set_id),
            )
            for one in found
        ]
        return sets + (_files(session, words, MOST - len(found)) if len(found) < MOST else [])


def _rigs_of(session: Session, set_id: int | None) -> list[int]:
    """The rigs at which a set is seen: what is taken with the cap on serves every rig of its camera."""
    row = session.get(FrameSet, set_id) if set_id is not None else None
    if row is None:
        return []
    if row.kind in ("light", "flat"):
        rig = rig_of(session, row)
        return [] if rig is None else [rig.id]
    return list(
        session.scalars(standing_rigs().where(Rig.camera == (row.camera or "")).with_only_columns(Rig.id))
    )


@dataclass(frozen=True)
class Findable:
    """A set, and all that can be said to find it."""

    set_id: int
    said: str
    kind: str
    title: str
    detail: str
    href: str


#: The sets as rows, the newest first: what is said of one changes where one of these does.
_SETS = """
    SELECT id, kind, camera, night, is_master, n_frames, facts, taken_off, measurement_id
    FROM frame_set ORDER BY night DESC, id
"""


@kept(4)
def sets_made(library: Library) -> RowsKept[Findable]:
    """Sets as they are searched, as they were last made; a library's own."""
    return RowsKept()


@kept(2)
def _sets(library: Library, revision: int) -> list[Findable]:
    with library.db.own_session() as session:
        rows = {row[0]: tuple(row) for row in session.connection().exec_driver_sql(_SETS)}

        def make(ids: Sequence[int]) -> dict[int, Findable]:
            made: dict[int, Findable] = {}
            for part in in_parts(ids):
                sets = session.scalars(select(FrameSet).where(FrameSet.id.in_(part)))
                made |= made_of_each(library, "search", sets, lambda row: _findable(library, row))
            return made

        return sets_made(library).renewed(rows, make)


def _findable(library: Library, row: FrameSet) -> Findable:
    night = row.night.strftime("%-d %B %Y %b %Y-%m-%d") if row.night else ""
    kind = "master " if row.is_master else ""
    title = set_title(row, gain_word(library, row.camera or ""))
    light = row.kind == "light"
    what = "lights" if light else f"{kind}{row.kind}"
    said = f"{kind}{row.kind} {title} {row.camera or ''} {night}"
    return Findable(
        row.id,
        said.lower().replace("\u2009", " "),
        kind=f"off the shelf, {what}" if row.taken_off else what,
        title=title,
        detail=f"{in_words.several(row.n_frames, 'frame')}, {in_words.day(row.night)}",
        href=f"/nights/{row.night}?set={row.id}" if light and row.night else f"/shelf?pull={row.id}",
    )


def _files(session: Session, words: Sequence[str], most: int) -> list[FoundOut]:
    query = select(Frame).where(Frame.state != "gone")
    # The index answers for three letters and more; shorter words are looked for in the names that it finds.
    long = [word for word in words if len(word) >= SHORTEST_IN_INDEX]
    if long:
        phrases = " AND ".join('"{}"'.format(word.replace('"', '""')) for word in long)
        found = select(_WORDS.c.rowid).where(text("frame_words MATCH :phrases").bindparams(phrases=phrases))
        query = query.where(Frame.id.in_(found)).order_by(Frame.path)
    short = [Frame.path.contains(word, autoescape=True) for word in words if word not in long]
    return [
        FoundOut(
            kind="file",
            title=frame.path.rsplit("/", 1)[-1],
            detail=frame.state,
            href=_href(frame),
            rig_ids=_rigs_of(session, frame.set_id),
        )
        for frame in session.scalars(query.where(*short).limit(most))
    ]


def _href(frame: Frame) -> str:
    if frame.set_id is None:
        return "/intake"
    return (
        f"/nights/{frame.night}?set={frame.set_id}"
        if frame.kind == "light"
        else f"/shelf?pull={frame.set_id}"
    )
