"""What the library has for lights that are handed over: their files, and those of what serves them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.filing.hand_over import (
    FileThere,
    Form,
    HandOver,
    LightsAsked,
    Recipe,
    Serving,
    handed_pattern,
    lay_out,
    lines_that_go,
)
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.crop import crop_for
from grayshelf.core.matching.model import Holding, PullSlip, SlipLine, Verdict
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.facts_json import facts_from_json, facts_if_sound
from grayshelf.library.kept import in_parts
from grayshelf.library.left_out import sparing
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, light_set
from grayshelf.library.models import Folder, Frame, FrameSet
from grayshelf.library.rig_terms import rig_of_lights
from grayshelf.library.scaling import scaled_with
from grayshelf.library.slips import slip_for, slips
from grayshelf.library.trains import standing_rigs

#: Sets of lights that are handed over at once.
MOST_SETS = 2000


@dataclass(frozen=True)
class Gathered:
    """A hand-over as it would be, and what is to be said of it."""

    laid: HandOver
    asked: tuple[LightsAsked, ...]
    said: tuple[str, ...]
    """What is not handed over, or with care, a sentence each."""


def gather(
    library: Library, set_ids: Sequence[int], form: Form, *, lights: bool = True, pattern: str = ""
) -> Gathered:
    """What is handed over for sets of lights.

    Parameters
    ----------
    lights
        Whether the lights themselves are handed over, too.
    pattern
        Of one's own for folders and names; empty for ours.

    Raises
    ------
    NotFound, GrayShelfError
        Where there are no such lights, or none of them has a file.
    """
    if not set_ids:
        raise GrayShelfError("Nothing is chosen to be handed over.", "Choose a night, or sets of lights.")
    if len(set_ids) > MOST_SETS:
        raise GrayShelfError(f"{MOST_SETS:,} sets of lights at most are handed over at once.")
    names = handed_pattern(pattern) if pattern.strip() else None
    with library.db.session() as session:
        pulled = slips_of(library, session, set_ids)
        if len(pulled) != len(set(set_ids)):
            raise NotFound(
                "Some of these lights are not in the library any more, or could not be understood.",
                "Look at the page again.",
            )
        gathering = _Gathering(session, form)
        with_files = lights or form is Form.CALIBRATED
        asked = [gathering.lights(one, slip, with_files=with_files) for one, slip in pulled]
    laid = lay_out(asked, names)
    if not laid.items:
        raise GrayShelfError(
            " ".join(gathering.said[:3])
            if form is Form.CALIBRATED and gathering.said
            else "There is nothing to hand over: no kept light of these is where it was.",
            "Combine what is loose, or hand them over with raw frames."
            if form is Form.CALIBRATED
            else "Plug the disk in, or scan its folder again.",
        )
    return Gathered(laid, tuple(asked), tuple(dict.fromkeys(gathering.said)))


def slips_of(library: Library, session: Session, set_ids: Collection[int]) -> list[tuple[LightSet, PullSlip]]:
    """Sets of lights with their slips, in the order of their nights; without those that are not there."""
    wanted = set(set_ids)
    rigs = session.scalars(standing_rigs()).all()
    found = [pair for rig in rigs for pair in slips(library, rig.id) if pair[0].row.id in wanted]
    for set_id in sorted(wanted - {one.row.id for one, _ in found}):
        # Stacks and calibrated copies are lights of no night, but go where they are named.
        row = session.get(FrameSet, set_id)
        facts = None if row is None or row.kind != FrameKind.LIGHT else facts_if_sound(row.facts)
        if row is not None and facts is not None and facts.calibrated:
            with sparing(library, "slips", set_id, "light"):
                one = light_set(row)
                found.append((one, slip_for(library, rig_of_lights(session, row), one)))
    return sorted(
        found, key=lambda pair: (str(pair[0].row.night), str(pair[0].row.first_utc), pair[0].row.id)
    )


class _Gathering:
    """Looks up files, each set's once, and notes what is missing."""

    def __init__(self, session: Session, form: Form) -> None:
        self._session, self._form = session, form
        self._sets: dict[tuple[str, str], tuple[FrameSet, tuple[FileThere, ...], bool]] = {}
        self.said: list[str] = []

    def lights(self, one: LightSet, slip: PullSlip, *, with_files: bool) -> LightsAsked:
        """A set of lights with what serves it."""
        name = _name(one)
        kept = self._files(one.row.id, f"the lights of {name}") if with_files else ()
        serving: list[Serving] = []
        lacks: list[FrameKind] = []
        for line in slip.lines:
            if line.verdict is Verdict.NOTHING:
                lacks.append(line.kind)
                # What waits for another cannot be told before that is there.
                if line.waits_for is None:
                    self.said.append(f"{name}: nothing fits as {line.kind.value}, so none goes with them.")
        going = lines_that_go(slip, self._form_of(one.facts, slip))
        for line in going:
            serves = self._serving(line, one.facts, name)
            if serves is None:
                lacks.append(line.kind)
                continue
            serving.append(serves)
            if line.verdict is Verdict.CARE and line.chosen is not None:
                reasons = "; ".join(line.chosen.reasons)
                self.said.append(f"{name}: the {line.kind.value} fits with care: {reasons}.")
        serving += self._taken_off_flats(going, serving, name)
        asked = LightsAsked(
            one.row.id,
            one.facts,
            one.row.night,
            kept,
            tuple(serving),
            tuple(lacks),
            rests_on=tuple(s.key for s in serving),
        )
        return asked if self._form is not Form.CALIBRATED else self._calibrated(asked, going, name)

    def _form_of(self, lights: FrameFacts, slip: PullSlip) -> Form:
        """As what flats go, by which it is told whether dark flats go with them: cropped ones are masters, whatever was asked
        for."""
        flats = [x.chosen.holding.settings for x in slip.lines if x.kind is FrameKind.FLAT and x.chosen]
        cropped = any(crop_for(lights, settings) for settings in flats)
        return Form.MASTERS if cropped and self._form is Form.FRAMES else self._form

    def _calibrated(self, asked: LightsAsked, going: Sequence[SlipLine], name: str) -> LightsAsked:
        """The same where the lights are calibrated here: nothing goes along, and those that lack something stay."""
        masters = {s.kind: s.files[0].frame_id for s in asked.serving if s.is_master and s.files}
        flat = next((line.chosen for line in going if line.kind is FrameKind.FLAT), None)
        dark = masters.get(FrameKind.DARK, masters.get(FrameKind.BIAS))
        pedestal = None
        trouble = ""
        if asked.facts.calibrated:
            trouble = "they are calibrated already"
        elif dark is None:
            trouble = "there is no master dark or bias for them"
        elif any(s.facts.calibrated for s in asked.serving if s.kind is FrameKind.DARK):
            trouble = "a bias was taken off their dark before, which leaves the pedestal in them"
        elif FrameKind.FLAT not in masters or flat is None:
            trouble = "there is no master flat for them"
        elif not flat.holding.pedestal_taken_off:
            pedestal = masters.get(FrameKind.DARK_FLAT)
            if pedestal is None:
                trouble = "the pedestal of their flat was not taken off, and no master dark flat is there"
        if trouble or dark is None:
            self.said.append(f"{name}: {trouble}, so they are not handed over calibrated.")
            return replace(asked, files=(), serving=())
        files = _written_here(asked.files, asked.facts)
        scaled = next((s.scaled for s in asked.serving if s.kind is FrameKind.DARK), None)
        recipe = Recipe(dark, masters[FrameKind.FLAT], pedestal, scaled)
        return replace(asked, files=files, serving=(), recipe=recipe)

    def _serving(self, line: SlipLine, lights: FrameFacts, name: str) -> Serving | None:
        """What serves lights by a line of their slip; None where it would have to be cropped and is no master, or scaled and its
        bias is gone."""
        assert line.chosen is not None
        holding = line.chosen.holding
        row = self._session.get_one(FrameSet, int(holding.key))
        facts = facts_from_json(row.facts)
        crop = crop_for(lights, facts)
        if crop is not None and not row.is_master:
            self.said.append(
                f"{name}: the {row.kind} that fits shows more of the sensor than they do. Combine it: its master is "
                "cropped when it goes with them."
            )
            return None
        scaling = line.chosen.scaling
        scaled = None if scaling is None else scaled_with(self._session, scaling)
        if scaling is not None and scaled is None:
            self.said.append(
                f"{name}: the bias with which their dark is scaled is not where it was, so none goes with them."
            )
            return None
        changed = "scaled" if scaled else "cropped" if crop else ""
        key = holding.key, changed
        if key not in self._sets:
            self._sets[key] = row, *self._files_of(row, changed)
        row, files, is_master = self._sets[key]
        for change in (scaled, crop):
            facts = change.of(facts) if change is not None else facts
        if changed:
            files = _written_here(files, facts)
        return Serving(
            holding.kind,
            line.chosen.answer,
            facts,
            line.verdict.value,
            line.chosen.reasons,
            files,
            row.n_frames,
            is_master,
            crop,
            scaled,
        )

    def _taken_off_flats(
        self, going: Sequence[SlipLine], serving: Sequence[Serving], name: str
    ) -> list[Serving]:
        """What was taken off a master flat whose raw frames go: they have their pedestal still, and no line of the slip asks
        for what takes it off."""
        flat = _master_of_raw_flats(going, serving)
        if flat is None:
            return []
        record = self._session.get_one(FrameSet, int(flat.key)).record
        number = record.pedestal_set_id if record else None
        row = None if number is None else self._session.get(FrameSet, number)
        files, is_master = ((), False) if row is None else self._files_of(row)
        if row is None or not files:
            what = (record.pedestal_kind if record else "") or "dark flat or bias"
            self.said.append(
                f"{name}: the {what} that was taken off their flat is not here, so its raw frames go with their pedestal."
            )
            return []
        kind = FrameKind.BIAS if row.kind == FrameKind.BIAS else FrameKind.DARK_FLAT
        if any(s.key == str(row.id) for s in serving):
            return []
        facts, fits = facts_from_json(row.facts), Verdict.FITS.value
        return [Serving(kind, str(row.id), facts, fits, (), files, row.n_frames, is_master)]

    def _files_of(self, row: FrameSet, changed: str = "") -> tuple[tuple[FileThere, ...], bool]:
        """The files of a set or master, and whether it is a master's. Raw frames go as they are, and not 'cropped' or 'scaled'."""
        title = f"the {row.kind} of {row.night:%-d %b %Y}" if row.night else f"the {row.kind}"
        start = title[:1].upper() + title[1:]
        if row.is_master and self._form is Form.FRAMES:
            if changed:
                self.said.append(f"{start} goes as its master, {changed}: raw frames are not {changed}.")
            elif (frames := self._raw_frames_of(row, title)) is not None:
                return frames, False
        if not row.is_master and self._form is not Form.FRAMES:
            as_it_is = ": its frames go as they are" if self._form is Form.MASTERS else ""
            self.said.append(f"{start} is not combined{as_it_is}.")
        return self._files(row.id, title), row.is_master

    def _raw_frames_of(self, row: FrameSet, title: str) -> tuple[FileThere, ...] | None:
        """What a master was made of; None where that is not known, or not all of it is there."""
        if row.record is None or not row.record.inputs:
            return None
        used = [i.frame_id for i in row.record.inputs if i.used and i.frame_id is not None]
        frames = list(self._session.scalars(select(Frame).where(Frame.id.in_(used)).order_by(Frame.id)))
        there = [f for f in frames if f.missing_since is None and f.state in IN_SETS]
        if len(there) == sum(i.used for i in row.record.inputs):
            return tuple(_file(f) for f in there)
        self.said.append(f"Raw frames of {title} are missing: its master goes in their place.")
        return None

    def _files(self, set_id: int, title: str) -> tuple[FileThere, ...]:
        frames = self._session.scalars(
            select(Frame)
            .where(Frame.set_id == set_id, Frame.state.in_(IN_SETS), ~Frame.rejected)
            .order_by(Frame.utc, Frame.id)
        ).all()
        missing = sum(f.missing_since is not None for f in frames)
        if missing:
            self.said.append(
                f"{missing} of {len(frames)} files of {title} are missing and are not handed over."
            )
        return tuple(_file(f) for f in frames if f.missing_since is None)


def _master_of_raw_flats(going: Sequence[SlipLine], serving: Sequence[Serving]) -> Holding | None:
    """The master of flats that go as raw frames, where its pedestal was taken off and no dark flats go that take off theirs."""
    raw = any(s.kind is FrameKind.FLAT and not s.is_master for s in serving)
    dark_flats = any(s.kind is FrameKind.DARK_FLAT for s in serving)
    chosen = next((x.chosen for x in going if x.kind is FrameKind.FLAT), None)
    if not raw or dark_flats or chosen is None or not chosen.holding.pedestal_taken_off:
        return None
    return chosen.holding


def _file(frame: Frame) -> FileThere:
    return FileThere(frame.id, frame.path.rpartition("/")[2], frame.size_bytes)


def _written_here(files: tuple[FileThere, ...], facts: FrameFacts) -> tuple[FileThere, ...]:
    """Files as they are once they are written anew: four bytes a pixel, whatever they were."""
    size = 4 * facts.width * facts.height
    return tuple(replace(f, name=f"{f.name.partition('.')[0]}.fits", size_bytes=size) for f in files)


def _name(one: LightSet) -> str:
    facts = one.facts
    parts = [
        facts.target or "no target",
        facts.filter_code or "",
        f"{facts.exposure_s:g} s" if facts.exposure_s else "",
    ]
    night = f" of {one.row.night:%-d %b}" if one.row.night else ""
    return f"{' '.join(filter(None, parts))}{night}"


def places_of(session: Session, frame_ids: Collection[int]) -> dict[int, Path]:
    """Where files of frames lie, by the frame's number; without frames that are in the library no more."""
    query = select(Frame.id, Folder.path, Frame.path).join(Folder, Folder.id == Frame.folder_id)
    return {
        number: Path(folder) / path
        for part in in_parts(sorted(set(frame_ids)))
        for number, folder, path in session.execute(query.where(Frame.id.in_(part)))
    }


def sizes_of(session: Session, frame_ids: Collection[int]) -> dict[int, int]:
    """How large files of frames are, in bytes, by the frame's number."""
    query = select(Frame.id, Frame.size_bytes)
    return {
        number: size
        for part in in_parts(sorted(set(frame_ids)))
        for number, size in session.execute(query.where(Frame.id.in_(part)))
    }
