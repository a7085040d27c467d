"""What a card tells of the frames that a master was made of, and of what was found wrong with them or with it."""

from __future__ import annotations

from typing import Any

from grayshelf.core.checks.findings import SetFinding
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.models import FrameSet, MasterInput
from grayshelf.library.records import read
from grayshelf.web.common import in_words
from grayshelf.web.shelf.schemas import FindingOfMasterOut, InputOut, PlaceOut
from grayshelf.work.checked import FRAMES_BY_HAND, PUT_IN, TAKEN_OUT


def inputs_out(row: FrameSet, behind: FrameSet | None) -> list[InputOut]:
    """The frames of a master in the order they were taken, with their levels, noise and temperature."""
    record = row.record
    if record is None:
        return []
    told: list[dict[str, Any]] = record.figures.get("frames") or []
    said = _said(behind)
    outs = []
    for number, one in enumerate(record.inputs):
        more = told[number] if number < len(told) else {}
        by_hand = said.get(str(one.frame_id), "")
        outs.append(
            InputOut(
                frame_id=one.frame_id,
                name=one.name,
                level=one.level_adu,
                mean=more.get("mean"),
                noise=more.get("noise"),
                temp=more.get("temp"),
                by_hand=by_hand if by_hand in (PUT_IN, TAKEN_OUT) else "",
                used=one.used,
                reason=one.reason,
                clipped_percent=100 * one.clipped_fraction,
                sha256=one.sha256,
            )
        )
    return outs


def _said(behind: FrameSet | None) -> dict[str, Any]:
    return dict(behind.said.get(FRAMES_BY_HAND) or {}) if behind is not None else {}


def pending(row: FrameSet, behind: FrameSet | None) -> int:
    """Frames of which a person said something else since the master was made."""
    said = _said(behind)

    def otherwise(one: MasterInput) -> bool:
        use, by_hand = said.get(str(one.frame_id)), "by hand" in one.reason
        return (use == PUT_IN) != one.used if use else by_hand

    return sum(otherwise(i) for i in row.record.inputs) if row.record is not None else 0


def findings_out(row: FrameSet) -> list[FindingOfMasterOut]:
    """What was found, what keeps frames out first."""
    kept = row.record.figures.get("findings") if row.record is not None else None
    facts = facts_if_sound(row.facts)
    outs = []
    for one in kept or []:
        found = read(SetFinding, one)
        place = None
        if found.place is not None and facts is not None:
            at, width, height = found.place, facts.width, facts.height
            place = PlaceOut(
                left=at.left / width,
                top=at.top / height,
                width=(at.right - at.left) / width,
                height=(at.bottom - at.top) / height,
            )
        outs.append(
            FindingOfMasterOut(
                fault=found.fault.value,
                size_text=_size(found),
                message=found.message,
                advice=found.advice,
                left_out=found.leave_out,
                place=place,
            )
        )
    return outs


def _size(found: SetFinding) -> str:
    digits = 0 if found.unit == "stars" or abs(found.size) >= 100 else 1 if abs(found.size) >= 1 else 2
    return f"{in_words.number(found.size, digits)}{in_words.THIN}{found.unit}"
