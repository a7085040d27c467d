"""The page File in words: how frames are filed, what would go where, what was filed."""

from __future__ import annotations

from collections import Counter
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.filing import USUAL, Sort, folders_of, sort_of
from grayshelf.core.filing.parts import PARTS
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library.choosing import MAY_LACK, Choice
from grayshelf.library.filing import (
    FiledBy,
    FiledState,
    FilingPlan,
    FilingWishes,
    all_filings,
    counts_of,
    filing_wishes,
    plan_filing,
    size_of,
)
from grayshelf.library.library import Library
from grayshelf.library.models import FiledFile, Filing, Folder, Frame, Job
from grayshelf.web.common import in_words
from grayshelf.web.common.jobs import job_out
from grayshelf.web.filing.schemas import (
    ExampleOut,
    FiledOut,
    FiledRowOut,
    FilingIn,
    FilingOut,
    FilingPreviewOut,
    PatternOut,
)
from grayshelf.web.intake.schemas import CountOut
from grayshelf.web.mending.page import folders_to_choose, frames_meant
from grayshelf.web.mending.schemas import NamedOut
from grayshelf.work.filing import in_use
from grayshelf.work.job_states import ALIVE, RESUMABLE

#: Files and folders that a preview shows; of the files those that stay come first.
SHOWN, SHOWN_STAYING, SHOWN_FOLDERS = 80, 20, 120
MOST_FILINGS = 60


def filing_page(library: Library) -> FilingOut:
    """How frames are filed here, and what was filed."""
    with library.db.session() as session:
        wishes, zone = filing_wishes(library, session), library.zone(session)
        return FilingOut(
            root=wishes.root,
            patterns=[PatternOut(sort=s, text=wishes.patterns[s], usual=USUAL[s]) for s in Sort],
            unknown=wishes.unknown,
            way=FiledBy.COPY if wishes.way is FiledBy.COPY else FiledBy.MOVE,
            along=wishes.along,
            parts=[NamedOut(key=p.key, label=p.label) for p in PARTS.values()],
            folders=folders_to_choose(session),
            cameras=[c for c in session.scalars(select(Frame.camera).distinct()) if c is not None],
            kinds=[k.value for k in FrameKind],
            may_lack=list(MAY_LACK),
            from_now_on=list(wishes.from_now_on),
            filed=[
                filed_out(library, session, f, zone)
                for f in all_filings(session)[:MOST_FILINGS]
                if f.way in (FiledBy.MOVE, FiledBy.COPY)
            ],
        )


_STATES = {
    FiledState.DONE: "in place",
    FiledState.THERE: "in place",
    FiledState.PLANNED: "to go",
    FiledState.BEGUN: "to go",
    FiledState.LEFT: "left where they were",
    FiledState.BACK: "brought back",
    FiledState.DELETED: "deleted for good",
}


#: What files of an entry are that are done, where they are not in another place.
_DONE_WORDS = {FiledBy.PACK.value: "packed", FiledBy.THROW.value: "put aside"}


def filed_out(library: Library, session: Session, filing: Filing, zone: ZoneInfo) -> FiledOut:
    """An entry of the journal, with how far its files are."""
    counted: Counter[str] = Counter()
    done_word = _DONE_WORDS.get(filing.way, _STATES[FiledState.DONE])
    for state, count in counts_of(session, filing.id).items():
        counted[done_word if state in (FiledState.DONE, FiledState.THERE) else _STATES[state]] += count
    job = session.get(Job, filing.job_id) if filing.job_id is not None else None
    shown = job if job is not None and job.state in (*ALIVE, *RESUMABLE) else None
    back = filing.taken_back_at
    going_on = job is not None and job.state in ALIVE
    return FiledOut(
        id=filing.id,
        on=f"{filing.begun_at.astimezone(zone):%-d %b %Y, %H:%M}",
        words=filing.words,
        root=filing.root,
        way=filing.way,  # type: ignore[arg-type]
        size_text=in_words.size(size_of(session, filing.id)),
        counts=[CountOut(name=name, count=count) for name, count in counted.items()],
        taken_back=f"{back.astimezone(zone):%-d %b %Y, %H:%M}" if back is not None else "",
        can_take_back=back is None and not going_on and counted[done_word] > 0,
        can_delete=filing.way == FiledBy.THROW and back is None and not going_on and counted[done_word] > 0,
        job=job_out(shown, library) if shown is not None and back is None else None,
    )


def wishes_of(library: Library, asked: FilingIn) -> FilingWishes:
    """How it is asked to be filed."""
    with library.db.session() as session:
        kept = filing_wishes(library, session)
    patterns = {**kept.patterns, **{p.sort: p.text for p in asked.patterns}}
    return FilingWishes(
        asked.root.strip(), patterns, asked.unknown.strip(), asked.way, asked.along, kept.from_now_on
    )


def choice_in_words(library: Library, choice: Choice) -> str:
    """Which frames, in words."""
    with library.db.session() as session:
        folder = session.get(Folder, choice.folder_id) if choice.folder_id is not None else None
    return choice.in_words(folder.path if folder is not None else "")


def preview_filing(library: Library, asked: FilingIn) -> FilingPreviewOut:
    """What would go where; where that cannot be, what is wrong."""
    try:
        plan = plan_filing(library, frames_meant(asked.choice), wishes_of(library, asked), in_use(library))
    except GrayShelfError as error:
        return FilingPreviewOut(
            frames=0,
            going=0,
            in_place=0,
            along=0,
            size_text="",
            examples=[],
            folders=[],
            more_folders=0,
            stays=[],
            rows=[],
            trouble=error.message,
            advice=error.advice,
        )
    folders = folders_of(plan.placed)
    return FilingPreviewOut(
        frames=len(plan.placed),
        going=len(plan.going),
        in_place=sum(p.in_place for p in plan.placed),
        along=len(plan.along),
        size_text=in_words.size(plan.size_bytes),
        examples=_examples(plan),
        folders=[CountOut(name=name, count=count) for name, count in folders[:SHOWN_FOLDERS]],
        more_folders=max(0, len(folders) - SHOWN_FOLDERS),
        stays=[
            CountOut(name=why, count=count)
            for why, count in Counter(p.stays for p in plan.placed if p.stays).most_common()
        ],
        rows=_rows(plan),
        trouble="",
        advice="",
    )


def _examples(plan: FilingPlan) -> list[ExampleOut]:
    found: dict[Sort, ExampleOut] = {}
    for p in plan.placed:
        sort = sort_of(p.frame.facts)
        if sort is None or p.stays:
            continue
        before = found.get(sort)
        found[sort] = ExampleOut(
            sort=sort, path=before.path if before else p.path, count=1 + (before.count if before else 0)
        )
    return list(found.values())


def _rows(plan: FilingPlan) -> list[FiledRowOut]:
    staying = [p for p in plan.placed if p.stays][:SHOWN_STAYING]
    shown = [*staying, *plan.going][:SHOWN]
    return [FiledRowOut(source=p.frame.path, target=p.path, stays=p.stays) for p in shown]


def journal_csv_rows(library: Library, filing_id: int) -> list[list[object]]:
    """Every file of a filing."""
    with library.db.session() as session:
        rows = session.scalars(
            select(FiledFile).where(FiledFile.filing_id == filing_id).order_by(FiledFile.id)
        )
        return [
            ["from", "to", "state", "why", "sha256"],
            *(
                list[object]((r.source, r.target, _STATES[FiledState(r.state)], r.reason, r.sha256 or ""))
                for r in rows
            ),
        ]
