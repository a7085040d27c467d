"""Handing over, in words: what would go, under which names, and what went before."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from urllib.parse import urlencode

from sqlalchemy import select

from grayshelf.core.filing.hand_over import Form, lines_that_go
from grayshelf.core.filing.parts import HANDED_PARTS
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library.handed import HandOverJob
from grayshelf.library.handing_over import Gathered, slips_of
from grayshelf.library.library import Library
from grayshelf.library.models import Job
from grayshelf.library.records import read
from grayshelf.web.common import in_words
from grayshelf.web.handing.schemas import HandedFileOut, HandedKindOut, HandedOut, HandOverOut, HandOverQuery
from grayshelf.web.mending.schemas import NamedOut
from grayshelf.work.handing_over import HAND_OVER

#: Files that are shown by name; the others are counted, and in the list.
SHOWN = 200
#: Hand-overs of before that are looked through.
LOOKED_BACK = 50
_ORDER = (FrameKind.LIGHT, FrameKind.FLAT, FrameKind.DARK_FLAT, FrameKind.DARK, FrameKind.BIAS)


def hand_over_page(gathered: Gathered, asked: HandOverQuery) -> HandOverOut:
    """What would be handed over."""
    items = gathered.laid.items
    counts, sizes = Counter(i.kind for i in items), Counter[FrameKind]()
    for item in items:
        sizes[item.kind] += item.file.size_bytes
    told = asked.model_dump(mode="json", include=set(HandOverQuery.model_fields), exclude_none=True)
    query = urlencode({**told, "lights": str(asked.lights).lower()})
    size = in_words.size(gathered.laid.size_bytes)
    return HandOverOut(
        headline=f"{in_words.several(len(items), 'file')}, {size}",
        kinds=[
            HandedKindOut(
                kind=kind.value,
                files=counts[kind],
                text=f"{in_words.several(counts[kind], 'file')}, {in_words.size(sizes[kind])}",
            )
            for kind in _ORDER
            if counts[kind]
        ],
        parts=[NamedOut(key=p.key, label=p.label) for p in HANDED_PARTS.values()],
        words=list(dict.fromkeys(gathered.laid.words.values())),
        files=[
            HandedFileOut(path=i.path, kind=i.kind.value, word=i.word, verdict=i.verdict, source=i.file.name)
            for i in items[:SHOWN]
        ],
        more=max(len(items) - SHOWN, 0),
        said=list(gathered.said),
        size_text=size,
        zip_href=f"/api/hand-over.zip?{query}",
        csv_href=f"/api/hand-over.csv?{query}",
        json_href=f"/api/hand-over.json?{query}",
    )


def handed_before(library: Library, set_ids: Collection[int]) -> list[HandedOut]:
    """Hand-overs of before in which some of these lights went, the newest first."""
    wanted = {str(i) for i in set_ids}
    with library.db.session() as session:
        query = select(Job).where(Job.kind == HAND_OVER).order_by(Job.id.desc()).limit(LOOKED_BACK)
        jobs = [(job, read(HandOverJob, job.params)) for job in session.scalars(query)]
        jobs = [(job, told) for job, told in jobs if wanted & told.served.keys()]
        zone = library.zone(session)
        sets = {int(i) for _, told in jobs for i in told.served}
        now = {form: _served_now(library, sets, form) for form in {told.form for _, told in jobs}}
        return [
            HandedOut(
                job_id=job.id,
                when=f"{in_words.short_day(job.created_at.astimezone(zone))}, {in_words.clock(job.created_at, zone)}",
                what=f"{told.form.value}, as {told.way.value}",
                folder=told.folder,
                state=job.state,
                renewed=_renewed(told, now[told.form]),
            )
            for job, told in jobs
        ]


def _served_now(library: Library, set_ids: Collection[int], form: Form) -> dict[str, dict[str, str]]:
    """What would go with sets of lights now: the kind of each, by its number."""
    with library.db.session() as session:
        pulled = slips_of(library, session, set_ids)
    return {
        str(one.row.id): {
            line.chosen.answer: line.kind.value for line in lines_that_go(slip, form) if line.chosen
        }
        for one, slip in pulled
    }


def _renewed(told: HandOverJob, now: dict[str, dict[str, str]]) -> str:
    """Which kinds would be others by now."""
    kinds: set[str] = set()
    sets = 0
    for set_id, served in told.served.items():
        other = {kind for key, kind in now.get(set_id, {}).items() if key not in served}
        kinds |= other
        sets += bool(other)
    if not kinds:
        return ""
    return f"renewed since: {in_words.listed(_by_kind(kinds))}, for {in_words.several(sets, 'set')} of lights"


def _by_kind(kinds: Collection[str]) -> Sequence[str]:
    return [k.value for k in _ORDER if k.value in kinds]
