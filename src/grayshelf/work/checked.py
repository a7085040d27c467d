"""Looking at the frames of a set before they are combined, and at the master afterwards."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from dataclasses import asdict, dataclass, replace
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.checks.findings import SetFinding, moved
from grayshelf.core.checks.looks import FrameLook, counted_levels, hottest, look_at
from grayshelf.core.checks.of_a_master import EMPTY, Beside, findings_of_master, look_at_master, together
from grayshelf.core.checks.of_a_set import Looked, findings_of_set
from grayshelf.core.checks.stars import stars_on
from grayshelf.core.digits import significant
from grayshelf.core.errors import CannotCombine, GrayShelfError, UnreadableFrame
from grayshelf.core.frames.angle import told_apart_deg
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.lit_part import lit_part_of, pattern_where_lit
from grayshelf.core.frames.sets import held
from grayshelf.core.frames.write import InputRecord
from grayshelf.core.pictures.parts import Parts, is_unsigned_16, strips
from grayshelf.core.sensor.statistics import full_of_counts, lower_full
from grayshelf.library.facts_json import facts_from_json, facts_if_sound
from grayshelf.library.file_parts import FileParts
from grayshelf.library.files import sha256_of
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet
from grayshelf.library.rig_terms import rig_of
from grayshelf.work.stack import Stack

#: Under what it is kept with a set which of its frames a person put into its master, or took out of it.
FRAMES_BY_HAND = "frames by hand"
PUT_IN, TAKEN_OUT = "in", "out"
#: Frames that are looked at at a time: each is held whole.
AT_ONCE = 2
#: Before anything was done to any train.
LONG_AGO = datetime(1970, 1, 1, tzinfo=UTC)
#: Flats at angles closer than this are lit alike.
SAME_ANGLE_DEG = 2.0


@dataclass(frozen=True)
class Judged:
    """The frames of a set, as they are to be combined, and what was found of them."""

    inputs: list[InputRecord]
    findings: list[SetFinding]


def judge_inputs(stack: Stack, scratch: Path, progress: Callable[[float], None]) -> Judged:
    """Hash each frame, look at it beside the others, and leave out what does not belong into a master.

    Parameters
    ----------
    scratch
        A folder for frames that have to be unpacked.

    Raises
    ------
    CannotCombine
        Where a file holds another frame than the one that was scanned.
    """
    facts, kind = stack.facts, FrameKind(stack.row.kind)
    lit, lit_from = kind is FrameKind.FLAT, lit_part_of(facts)
    pattern = pattern_where_lit(facts.pixel_pattern, lit_from) if lit else None
    hot_at: NDArray[np.int64] | None = None
    looks: list[tuple[FrameLook, list[SetFinding]]] = []
    if kind is FrameKind.DARK and len(stack.paths) >= 5:
        few = (stack.paths[0], stack.paths[len(stack.paths) // 2], stack.paths[-1])
        pictures = [_read(path, partial(_parts, path, facts, scratch)) for path in few]
        hot_at = _read(few[0], lambda: hottest(pictures))
    white = (
        _read(stack.paths[0], lambda: _white_of(_parts(stack.paths[0], facts, scratch), facts))
        if stack.paths
        else 65_535
    )

    def looked_through(path: Path) -> tuple[FrameLook, list[SetFinding], str]:
        parts = _parts(path, facts, scratch)
        look = look_at(parts, white, lit=lit, hot_at=hot_at, pattern=pattern)
        stars = stars_on(parts, look.level, look.noise) if facts.of_sky else []
        return look, stars, sha256_of(path)

    records: list[InputRecord] = []
    with (
        ThreadPoolExecutor(AT_ONCE, thread_name_prefix="look") as several,
        # Closed first, so that what has not begun is not waited for when the job is stopped.
        closing(several.map(lambda path: _read(path, lambda: looked_through(path)), stack.paths)) as done,  # type: ignore[type-var]
    ):
        for frame, (look, stars, sha256) in zip(stack.frames, done, strict=True):
            looks.append((look, stars))
            temp = facts_from_json(frame.facts).sensor_temp_c
            name = Path(frame.path).name
            records.append(
                InputRecord(
                    name, sha256, True, look.level, 0.0, "", _finite(look.mean), _finite(look.noise), temp
                )
            )
            progress(len(records) / len(stack.frames))
    goal = facts.set_temp_c if held(facts) else None
    looked = Looked(kind, [k for k, _ in looks], [r.temp_c for r in records], goal, facts.of_sky)
    found = findings_of_set(looked) + _stars_of([stars for _, stars in looks])
    if lit_from is not None:
        found = moved(found, lit_from.left, lit_from.top)
    return Judged(_with_reasons(records, found, _by_hand(stack)), found)


def _finite(value: float) -> float | None:
    """What no frame tells is not known, and no number."""
    return float(value) if math.isfinite(value) else None


Found = TypeVar("Found")


def _read(path: Path, work: Callable[[], Found]) -> Found:
    """What is found in a frame; where it cannot be read, that is said of it and of its set."""
    try:
        return work()
    except UnreadableFrame as error:
        raise CannotCombine(
            f"{path.name}: {error.message} No master was built of its set.", error.advice
        ) from error


def _parts(path: Path, facts: FrameFacts, scratch: Path) -> Parts:
    """What is looked at of a frame of a set: the part of all of them that light can reach."""
    parts = FileParts(path, scratch)
    if (parts.height, parts.width) != (facts.height, facts.width):
        raise CannotCombine(
            f"{path.name} is another file than the one that was scanned: it has {parts.width} × "
            f"{parts.height} pixels.",
            "Scan its folder again, then build.",
        )
    lit = lit_part_of(facts)
    return parts if lit is None else lit.of(parts)


def _white_of(parts: Parts, facts: FrameFacts) -> int:
    found = full_of_counts(counted_levels(parts)) if is_unsigned_16(parts) else 65_535
    return lower_full(found, facts.full_adu)


def _by_hand(stack: Stack) -> dict[int, str]:
    """What a person said of its frames, by their place in the set."""
    said = stack.row.said.get(FRAMES_BY_HAND) or {}
    return {i: said[str(f.id)] for i, f in enumerate(stack.frames) if str(f.id) in said}


def _with_reasons(
    records: Sequence[InputRecord], found: Sequence[SetFinding], by_hand: Mapping[int, str]
) -> list[InputRecord]:
    reasons: dict[int, str] = {}
    for finding in found:
        for i in finding.frames if finding.leave_out else ():
            reasons.setdefault(i, _reason(finding))
    judged = []
    for i, record in enumerate(records):
        reason, used = reasons.get(i, ""), i not in reasons
        if by_hand.get(i) == TAKEN_OUT:
            reason, used = "taken out by hand", False
        elif by_hand.get(i) == PUT_IN and not used:
            reason, used = f"put in by hand; {reason}", True
        judged.append(replace(record, used=used, reason=reason))
    return judged


def _reason(finding: SetFinding) -> str:
    """'wrong temperature, 1 °C'; of one frame alone with what is said of it."""
    size = f"{finding.fault.value}, {significant(finding.size, 3)} {finding.unit}"
    about, _, words = finding.message.partition(": ")
    return f"{size}: {words.rstrip('.')}" if about.startswith("Frame ") and words else size


def _stars_of(of_frames: Sequence[Sequence[SetFinding]]) -> list[SetFinding]:
    starry = [i for i, found in enumerate(of_frames) if found]
    if not starry:
        return []
    most = max((of_frames[i][0] for i in starry), key=lambda f: f.size)
    words = f"{len(starry)} of {len(of_frames)} flats have stars on them, up to {most.size:.0f}"
    return [replace(most, frames=tuple(starry), message=f"{words}{most.message[most.message.index(',') :]}")]


# -- what a master is held against ------------------------------------------------------------------------------


def beside(library: Library, session: Session, row: FrameSet) -> Beside:
    """Masters on the shelf that tell whether a new one of this set is as it should be; one that cannot be read is no
    help."""
    facts = facts_from_json(row.facts)
    others = [
        (other, found)
        for other in session.scalars(
            select(FrameSet).where(
                FrameSet.camera == row.camera,
                FrameSet.is_master,
                FrameSet.taken_off.is_(False),
                FrameSet.id.not_in([i for i in (row.id, row.master_set_id) if i is not None]),
            )
        )
        if (found := facts_if_sound(other.facts)) is not None and _as_read_out(found, facts)
    ]
    if row.kind == "flat":
        return _flats_beside(library, session, row, facts, others)
    same = [
        (found.exposure_s or 0.0, other)
        for other, found in others
        if other.kind != "flat" and (found.gain, found.offset) == (facts.gain, facts.offset)
    ]
    short = [(s, other) for s, other in same if s < 0.2 * (facts.exposure_s or 0.0)]
    if not short:
        return Beside()
    return Beside(capped=_look(library, session, min(short, key=lambda one: (one[0], one[1].id))[1]))


def _flats_beside(
    library: Library,
    session: Session,
    row: FrameSet,
    facts: FrameFacts,
    others: Sequence[tuple[FrameSet, FrameFacts]],
) -> Beside:
    alike = [
        (other, found)
        for other, found in others
        if other.kind == "flat"
        and (found.filter_code, found.telescope, found.focal_length_mm, found.lens_stop)
        == (facts.filter_code, facts.telescope, facts.focal_length_mm, facts.lens_stop)
        and (told_apart_deg(found.angle, facts.angle) or 0.0) <= SAME_ANGLE_DEG
    ]
    last = _last_before(session, row, [other for other, _ in alike])
    longest = max(alike, key=lambda one: one[1].exposure_s or 0.0, default=None)
    longer = longest if longest and (longest[1].exposure_s or 0.0) > (facts.exposure_s or 0.0) else None
    return Beside(
        before=_look(library, session, last) if last is not None else None,
        longer=_look(library, session, longer[0]) if longer else None,
        longer_s=(longer[1].exposure_s or 0.0) if longer else 0.0,
    )


def _last_before(session: Session, row: FrameSet, flats: Sequence[FrameSet]) -> FrameSet | None:
    """The last of some flats before these, since something was done to the train: that changes how the light falls, and is
    no fault."""
    first = row.first_utc
    rig = rig_of(session, row)
    if first is None:
        return None
    done = [e.at for e in rig.events if not e.taken_back and e.at <= first] if rig else []
    since = max(done, default=LONG_AGO)
    earlier = [(f.last_utc, f.id, f) for f in flats if f.last_utc and since < f.last_utc < first]
    return max(earlier, key=lambda one: one[:2], default=(None, 0, None))[2]


def _as_read_out(one: FrameFacts, other: FrameFacts) -> bool:
    names = ("width", "height", "binning_x", "read_mode", "bayer_pattern")
    return all(getattr(one, name) == getattr(other, name) for name in names)


def _look(library: Library, session: Session, row: FrameSet) -> FrameLook | None:
    if not row.frames:
        return None
    try:
        parts = FileParts(library.frame_path(session, row.frames[0]), library.root / "scratch")
        pattern = pattern_where_lit(facts_from_json(row.facts).pixel_pattern, parts.lit)
        return look_at_master(parts.where_lit, FrameKind(row.kind), pattern=pattern)
    except (GrayShelfError, OSError):
        return None


def looked_at(
    library: Library, session: Session, row: FrameSet, master: FileParts, of_frames: Sequence[SetFinding]
) -> list[SetFinding]:
    """What is wrong with a master, beside what was found of its frames.

    Parameters
    ----------
    of_frames
        Empty also where nobody looked at them: then what shows in the master alone is told, too.
    """
    facts, kind, picture = facts_from_json(row.facts), FrameKind(row.kind), master.where_lit
    foreign = row.is_master and not (row.record is not None and row.record.built_here)
    highest = np.fmax.reduce([np.fmax.reduce(strip, axis=None) for strip in strips(picture)])
    if math.isnan(highest):
        return [*of_frames, EMPTY]
    # A flat of norm 1 is nowhere full.
    white = 65_535.0 if foreign and highest > 100.0 else math.inf
    look = look_at_master(picture, kind, white, pattern_where_lit(facts.pixel_pattern, master.lit))
    of_master = findings_of_master(
        picture,
        look,
        kind,
        beside(library, session, row),
        exposure_s=facts.exposure_s,
        of_sky=facts.of_sky,
        foreign=foreign,
    )
    if master.lit is not None:
        of_master = moved(of_master, master.lit.left, master.lit.top)
    return together(of_frames, of_master)


def as_json(found: Sequence[SetFinding]) -> list[dict[str, Any]]:
    """Findings as they are kept with a master."""
    return [asdict(f) for f in found]
