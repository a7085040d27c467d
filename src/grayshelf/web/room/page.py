"""The page Room in words: what takes how much room, which raw frames may go, and what is lost by it."""

from __future__ import annotations

import shutil
from collections import defaultdict
from collections.abc import Sequence
from datetime import date
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.letting_go import RawFrames, RawSet, what_is_lost, why_not_thrown_away, wished
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library.filing import FiledBy, all_filings, folder_to_file_into
from grayshelf.library.kept import kept
from grayshelf.library.letting_go import plan_letting_go
from grayshelf.library.library import Library
from grayshelf.library.models import Folder
from grayshelf.library.raw_sets import Taken, raw_sets, raw_sets_of, room_taken
from grayshelf.web.common import in_words
from grayshelf.web.filing.page import MOST_FILINGS, filed_out
from grayshelf.web.intake.schemas import CountOut
from grayshelf.web.room.schemas import DiskOut, LetGoIn, LetGoPreviewOut, RawNightOut, RoomOfKindOut, RoomOut

#: Nights that are listed, those with the most first.
MOST_NIGHTS = 400
_AGES = (("3 months", 92), ("a year", 366), ("older", 10**6))
_PLURAL = {"bias": "bias", "": "kind not known", "master": "masters"}


def room_page(library: Library) -> RoomOut:
    """Room by kind, night and age, and what may go."""
    with library.db.session() as session:
        zone = library.zone(session)
        today = library.clock.now().astimezone(zone).date()
        groups, taken = _groups(library, library.revision, today), room_taken(library)
        return RoomOut(
            total_text=in_words.size(sum(t.size_bytes for t in taken)),
            n_frames=sum(t.n_frames for t in taken),
            ages=[name for name, _ in _AGES],
            kinds=_kinds(taken, today),
            disks=_disks(library, session),
            nights=[_night_out(*one) for one in groups[:MOST_NIGHTS]],
            more_nights=max(0, len(groups) - MOST_NIGHTS),
            filed=[
                filed_out(library, session, f, zone)
                for f in all_filings(session)[:MOST_FILINGS]
                if f.way in (FiledBy.PACK, FiledBy.THROW)
            ],
        )


def _kinds(taken: Sequence[Taken], today: date) -> list[RoomOfKindOut]:
    whole = sum(t.size_bytes for t in taken) or 1
    by_kind: dict[str, list[Taken]] = defaultdict(list)
    for t in taken:
        by_kind[t.kind].append(t)
    sums = {kind: sum(t.size_bytes for t in rows) for kind, rows in by_kind.items()}
    return [
        RoomOfKindOut(
            kind=kind,
            title=_plural(kind),
            n_frames=sum(t.n_frames for t in by_kind[kind]),
            size_text=in_words.size(size),
            share=size / whole,
            by_age=[in_words.size(s) if s else "" for s in _by_age(by_kind[kind], today)],
        )
        for kind, size in sorted(sums.items(), key=lambda item: -item[1])
    ]


def _plural(kind: str) -> str:
    return _PLURAL.get(kind, f"{kind}s")


def _by_age(rows: Sequence[Taken], today: date) -> list[int]:
    sizes = [0] * len(_AGES)
    for t in rows:
        # What has no night is not known to be young.
        days = (today - t.night).days if t.night is not None else _AGES[-1][1]
        index = next((i for i, (_, most) in enumerate(_AGES) if days <= most), len(_AGES) - 1)
        sizes[index] += t.size_bytes
    return sizes


def _disks(library: Library, session: Session) -> list[DiskOut]:
    found: dict[int, list[Path]] = defaultdict(list)
    for text in session.scalars(select(Folder.path).order_by(Folder.path)):
        folder = Path(text)
        try:
            found[folder.stat().st_dev].append(folder)
        except OSError:
            continue
    told = []
    for folders in found.values():
        free, whole = library.room(folders[0]), shutil.disk_usage(folders[0]).total
        told.append(
            DiskOut(
                folders=[str(f) for f in folders],
                free_text=in_words.size(free),
                whole_text=in_words.size(whole),
                taken_share=max(1.0 - free / (whole or 1), 0.0),
            )
        )
    return told


_Group = tuple[FrameKind, date | None, str, RawFrames]


@kept(2)
def _groups(library: Library, revision: int, today: date) -> Sequence[tuple[_Group, list[RawSet]]]:
    """Sets by kind and night, those with the most first. What may go stands apart from what may not."""
    groups: dict[_Group, list[RawSet]] = defaultdict(list)
    for raw in raw_sets(library).values():
        groups[raw.kind, raw.night, why_not_thrown_away(raw), wished(raw, today)].append(raw)
    return sorted(groups.items(), key=lambda one: (-sum(raw.size_bytes for raw in one[1]), one[1][0].set_id))


def _night_out(group: _Group, sets: Sequence[RawSet]) -> RawNightOut:
    kind, night, kept_for, rule = group
    return RawNightOut(
        key=f"{kind} {night} {sets[0].set_id}",
        kind=kind.value,
        title=_plural(kind.value),
        night=in_words.day(night),
        set_ids=[raw.set_id for raw in sets],
        n_frames=sum(raw.n_frames for raw in sets),
        n_packed=sum(raw.n_packed for raw in sets),
        size_bytes=sum(raw.size_bytes for raw in sets),
        size_text=in_words.size(sum(raw.size_bytes for raw in sets)),
        kept_for=kept_for,
        wished=rule,
    )


def preview_letting_go(library: Library, asked: LetGoIn) -> LetGoPreviewOut:
    """What would become of the raw frames of sets; where that cannot be, what is wrong."""
    try:
        root = str(folder_to_file_into(library, asked.root)) if asked.way is FiledBy.MOVE else ""
        plan = plan_letting_go(library, asked.set_ids, asked.way, root)
    except GrayShelfError as error:
        return LetGoPreviewOut(
            n_frames=0, size_text="", lost=[], stays=[], trouble=error.message, advice=error.advice
        )
    return LetGoPreviewOut(
        n_frames=len(plan.legs),
        size_text=in_words.size(plan.size_bytes),
        lost=what_is_lost(plan.sets) if asked.way is FiledBy.THROW else [],
        stays=[CountOut(name=why, count=count) for why, count in plan.stays.most_common()],
        trouble="",
        advice="",
    )


def room_csv_rows(library: Library) -> list[list[object]]:
    """Room by kind and night, sizes in bytes."""
    taken = sorted(room_taken(library), key=lambda t: (t.kind, t.night or date.min))
    return [
        ["kind", "night", "frames", "bytes"],
        *(list[object]((t.kind, t.night or "", t.n_frames, t.size_bytes)) for t in taken),
    ]


#: Nights that are named in the journal.
_NAMED = 3


def sets_in_words(library: Library, set_ids: Sequence[int]) -> str:
    """Which raw frames, for the journal: 'flats and darks of 18 Oct 2026'."""
    with library.db.session() as session:
        sets = list(raw_sets_of(library, session, set(set_ids)).values())
    kinds = in_words.listed(list(dict.fromkeys(_plural(s.kind.value) for s in sets)))
    nights = sorted({s.night for s in sets if s.night is not None}, reverse=True)
    named = ", ".join(f"{n:%-d %b %Y}" for n in nights[:_NAMED])
    more = f" and {len(nights) - _NAMED} more nights" if len(nights) > _NAMED else ""
    return f"{kinds} of {named}{more}" if named else kinds
