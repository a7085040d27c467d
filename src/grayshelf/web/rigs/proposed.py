"""Rigs that headers propose, in words: the evidence, the spellings, and what has to be asked."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.rigs.evidence import Evidence, SetSeen, evidence_of
from grayshelf.core.rigs.propose import Doubt, Join, NameOf
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet, Rig, Spelling, counts_once
from grayshelf.library.names_seen import doubts, spelled
from grayshelf.library.trains import sorter, standing_rigs
from grayshelf.web.common import in_words
from grayshelf.web.rigs.schemas import (
    DoubtOut,
    NameIn,
    ProposalOut,
    ProposedOut,
    RigNamed,
    SaidTwoOut,
    SpellingOut,
)


def proposal_page(library: Library) -> ProposalOut:
    """All that waits for a yes or no of a person."""
    with library.db.session() as session:
        rigs = list(session.scalars(standing_rigs()))
        new = [rig for rig in rigs if rig.proposed and rig.retired_at is None]
        # Rigs of one camera stand together, in the order in which the first of each was found.
        cameras = [rig.camera for rig in new]
        new.sort(key=lambda rig: cameras.index(rig.camera))
        seen = _evidence(library, library.revision) if new else {}
        apart = session.scalars(select(Spelling).where(Spelling.apart).order_by(Spelling.id)).all()
        return ProposalOut(
            rigs=[_proposed(library, rig, seen.get(rig.id)) for rig in new],
            doubts=[doubt_out(doubt) for doubt in doubts(library).doubts],
            said_two=[
                SaidTwoOut(
                    words=f"{_thing(NameOf(row.about), row.spelled)} and {row.name}",
                    **_name_of(Join(NameOf(row.about), row.camera, row.spelled, row.name)),
                )
                for row in apart
            ],
            others=[RigNamed(id=rig.id, name=rig.name) for rig in rigs],
        )


@kept(2)
def _evidence(library: Library, _revision: int) -> dict[int, Evidence]:
    """What lights and flats tell of each rig that has any, by its number."""
    whose, found = sorter(library), dict[int, list[SetSeen]]()
    through = (FrameKind.LIGHT.value, FrameKind.FLAT.value)
    every = select(FrameSet.facts, FrameSet.n_frames).where(FrameSet.kind.in_(through), counts_once())
    with library.db.own_session() as session:
        for told, frames in session.execute(every):
            facts = facts_if_sound(told)
            number = None if facts is None else whose.of(facts)
            if facts is not None and number is not None:
                found.setdefault(number, []).append(SetSeen(facts, frames))
    return {number: evidence_of(sets) for number, sets in found.items()}


def _proposed(library: Library, rig: Rig, seen: Evidence | None) -> ProposedOut:
    evidence = seen or evidence_of([])
    return ProposedOut(
        rig_id=rig.id,
        name=rig.name,
        title=_title(rig, evidence),
        evidence=_in_words(evidence),
        filters=list(evidence.filters),
        not_told=in_words.listed(list(evidence.not_told)) if seen else "",
        spellings=spellings_out(library, rig, evidence.filters),
    )


def _title(rig: Rig, evidence: Evidence) -> str:
    """'Heron 26M on Alder 80, 530 mm'."""
    on = f" on {rig.telescope}" if rig.telescope else ""
    lengths = evidence.focal_lengths_mm
    mm = "" if lengths is None else f", {lengths[0]:g} mm"
    if lengths is not None and round(lengths[1]) > round(lengths[0]):
        mm = f", {lengths[0]:g} to {lengths[1]:g} mm"
    return f"{rig.camera}{on}{mm}"


def _in_words(evidence: Evidence) -> str:
    counted = [
        in_words.several(count, one)
        for count, one in ((evidence.lights, "light"), (evidence.flats, "flat"))
        if count
    ]
    if not counted:
        return "Only darks and bias: no light or flat of it yet."
    text = in_words.listed(counted)
    if evidence.first is None or evidence.last is None:
        return f"{text}, of no night that is known."
    if evidence.first == evidence.last:
        return f"{text} of {in_words.day(evidence.first)}."
    nights = in_words.several(evidence.nights, "night")
    return f"{text} of {nights}, {in_words.day(evidence.first)} to {in_words.day(evidence.last)}."


def spellings_out(library: Library, rig: Rig, filters: tuple[str, ...]) -> list[SpellingOut]:
    """Names of a rig that headers write in another way than they are kept, each way with its frames."""
    names = [(NameOf.CAMERA, "", rig.camera)]
    if rig.telescope:
        names.append((NameOf.TELESCOPE, rig.camera, rig.telescope))
    names += [(NameOf.FILTER, rig.camera, code) for code in filters]
    return [
        SpellingOut(
            text=way.text,
            frames=way.frames,
            shown=way.text or "none named",
            **_name_of(Join(about, camera, way.text, name)),
        )
        for about, camera, name in names
        for way in spelled(library, about, camera, name)
    ]


def _name_of(join: Join) -> dict[str, Any]:
    return {"about": join.about, "camera": join.camera, "spelled": join.spelled, "name": join.name}


def join_of(name: NameIn) -> Join:
    """What a page sent."""
    return Join(name.about, name.camera, name.spelled, name.name)


def _thing(about: NameOf, spelled: str) -> str:
    return spelled or f"what names no {about}"


def doubt_out(doubt: Doubt) -> DoubtOut:
    """A doubt as a question."""
    join, frames = doubt.join, in_words.several(doubt.frames, "frame")
    one, two = f"One {join.about}", f"Two {join.about}s"
    names = "names" if doubt.frames == 1 else "name"
    if not join.spelled:
        question = f"{frames} of {join.camera} {names} no telescope. {'Is it' if doubt.frames == 1 else 'Are they'} of {join.name}?"
        one, two = f"Of {join.name}", "Of another"
    else:
        of = f" of {join.camera}" if join.camera else ""
        question = f"Are {join.spelled} and {join.name} one {join.about}{of}?"
    said = "" if not join.spelled else f"{frames} {names} {join.spelled}; "
    why = f"{said}{doubt.why}."
    return DoubtOut(question=question, why=f"{why[:1].upper()}{why[1:]}", one=one, two=two, **_name_of(join))
