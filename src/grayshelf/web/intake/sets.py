"""Sets in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

from sqlalchemy import ColumnElement, func, or_, select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, NotFound
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.said import QUANTITIES
from grayshelf.core.frames.sets import nominal_exposure, nominal_temperature
from grayshelf.library.cameras_alike import cameras_alike
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.holdings import believed, missing_by_set, missing_in_words
from grayshelf.library.left_out import made_of_each
from grayshelf.library.library import Library
from grayshelf.library.made_of import come_since
from grayshelf.library.models import FrameSet
from grayshelf.library.rig_terms import gain_word
from grayshelf.web.common import in_words
from grayshelf.web.intake.problems import PAGE
from grayshelf.web.intake.schemas import SetOut, SetsOut
from grayshelf.work.build import FEWEST

#: In which order kinds are told of.
KIND_ORDER = {"light": 0, "flat": 1, "dark flat": 2, "dark": 3, "bias": 4}


def _done(facts: FrameFacts) -> str:
    """What was done to calibrated frames before they came in."""
    if facts.stacked:
        return f"stack of {facts.n_combined or 'lights'}"
    if facts.kind is FrameKind.LIGHT:
        return "calibrated"
    return "pedestal off" if facts.kind is FrameKind.FLAT else "bias off"


def set_title(row: FrameSet, word: str) -> str:
    """'300 s, −10 °C, gain 200', 'SII, 7.4 s, gain 200', 'NGC 281, Ha, 300 s, binning 2'."""
    facts = facts_from_json(row.facts)
    parts: list[str] = []
    if row.kind == "light":
        parts.append(facts.target or "no target")
    if row.kind in ("light", "flat"):
        parts.append(in_words.stamp(facts))
    if facts.exposure_s is not None and row.kind != "bias":
        parts.append("of the sky" if facts.of_sky else in_words.seconds(nominal_exposure(facts.exposure_s)))
    temp = nominal_temperature(facts.sensor_temp_c, facts.set_temp_c)
    if row.kind == "dark" and temp is not None:
        parts.append(in_words.degrees_c(temp))
    if facts.gain is not None:
        parts.append(f"{word} {in_words.plain(facts.gain)}")
    if facts.binning_x is not None and (facts.binning_x > 1 or not parts):
        parts.append(f"binning {facts.binning_x}")
    if row.kind in ("light", "flat"):
        parts += in_words.stop_of(facts)
    parts += in_words.part_of_sensor(facts)
    if facts.calibrated:
        parts.append(_done(facts))
    if row.measurement_id is not None:
        parts.append(
            "shot for the Bench" if facts.gain is None or facts.offset is None else "read by the Bench"
        )
    return ", ".join(parts) or "settings not known"


_LACKS_MASTER = FrameSet.master_set_id.is_(None)


def _may_be_combined() -> ColumnElement[bool]:
    """Raw frames of the library's own kinds, enough of them, that are not the Bench's."""
    return (
        FrameSet.kind.in_(("bias", "dark", "flat", "dark flat"))
        & FrameSet.is_master.is_(False)
        & FrameSet.measurement_id.is_(None)
        & (FrameSet.n_kept >= FEWEST)
    )


def _that_lack_masters(session: Session, missing_now: Mapping[int, int]) -> list[int]:
    """Sets that can be combined now: no master is built of files of which some are missing, and that is told beside the set.

    Parameters
    ----------
    missing_now
        How many files are missing, by set.
    """
    query = select(FrameSet.id).where(_may_be_combined(), _LACKS_MASTER)
    return [set_id for set_id in session.scalars(query) if set_id not in missing_now]


def sets_page(library: Library, page: int, kind: str) -> SetsOut:
    """The sets that frames fell into, newest first."""
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
        missing_now, since = missing_by_set(session), come_since(session, [row.id for row in rows])
        to_build = len(_that_lack_masters(session, missing_now))

        def shown(row: FrameSet) -> SetOut:
            word = gain_word(library, row.camera or "")
            return _set_out(row, word, missing_now.get(row.id, 0), since.get(row.id, 0))

        items = list(made_of_each(library, "sets", rows, shown).values())
        _tell_cameras_apart(library, rows, items)
        return SetsOut(
            items=items, total=total, page=page, pages=max(1, -(-total // PAGE)), to_build=to_build
        )


def _tell_cameras_apart(library: Library, rows: Sequence[FrameSet], items: Sequence[SetOut]) -> None:
    """Of several cameras of one name each is told by the telescope that it is on."""
    several = cameras_alike(library)
    telescopes = {row.id: row.facts.get("telescope") for row in rows if row.camera in several}
    for item in items:
        telescope = telescopes.get(item.id)
        if telescope:
            item.camera = f"{item.camera}, {telescope}"


def _set_out(row: FrameSet, word: str, missing_now: int, since: int) -> SetOut:
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
        come_since=since,
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
        "target": facts.target,
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
        # What was chosen by hand for these frames is kept beside it, and stays.
        others = {k: v for k, v in row.said.items() if k not in {*named, *QUANTITIES.values()}}
        row.said = others if right is None else {**others, **dict.fromkeys(named, right)}
        words = in_words.listed(named)
    library.touched()
    if right is None:
        return f"What was said of the {words} in its names is taken back."
    return f"The {words} in its names {'is kept as right' if right else 'counts as not known'}."


def sets_to_build(library: Library, wanted: list[int] | None) -> list[int]:
    """Numbers of the sets to combine: those wanted, also anew where frames came to them since, or all that have no master."""
    with library.db.session() as session:
        if wanted is None:
            found = _that_lack_masters(session, missing_by_set(session))
        else:
            grown = or_(_LACKS_MASTER, FrameSet.id.in_(come_since(session, wanted)))
            named = select(FrameSet.id).where(_may_be_combined(), FrameSet.id.in_(wanted), grown)
            found = list(session.scalars(named))
    if not found:
        raise Conflict(
            "There is nothing to combine: the sets have their masters, have too few frames, or wait for missing files."
        )
    return found
