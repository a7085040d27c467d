"""Measuring from frames that are on the disk already: what there is of a camera, and reading it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, GrayShelfError
from grayshelf.core.flats.panel.diffusers import listed
from grayshelf.core.sensor.bias import read_bias
from grayshelf.core.sensor.gain_words import gain_named, gains_named
from grayshelf.core.sensor.pairs import channels, even_part, read_pair, thinned, usual_noise, whole_part
from grayshelf.core.sensor.sorting import HandedIn, sort_out
from grayshelf.core.sensor.statistics import UNSHIFTED_ENDS, camera_white, lower_full
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.files import read_pixels
from grayshelf.library.library import Library
from grayshelf.library.measurement_records import MeasurementSettings, keep_settings, settings_of, with_usual
from grayshelf.library.measurements import pairs_as_json
from grayshelf.library.models import Frame, FrameSet, Measurement, MeasurementShot
from grayshelf.library.records import as_kept, read
from grayshelf.library.rig_terms import word_where_measured
from grayshelf.library.step_records import JobResult, MeasurementJob
from grayshelf.work.jobs import JobControl

#: More frames of one offset than this say no more.
MOST_BIAS = 40
#: Pairs taken of one set of flats.
MOST_PAIRS_OF_SET = 4
MOST_BIAS_PAIRS = 8


def plan_disk(
    session: Session, library: Library, camera: str, rig_id: int, kind: str, set_ids: Sequence[int]
) -> Measurement:
    """Write a measurement down that is to be read from these sets.

    Raises
    ------
    Conflict
        Where nothing of them can be measured.
    """
    rows = list(session.scalars(select(FrameSet).where(FrameSet.id.in_(set_ids)).order_by(FrameSet.id)))
    handed = [_handed_in(r) for r in rows if r.kind in ("bias", "flat") and not r.is_master]
    notes = [
        f"{r.n_frames} frames left out: a master has no noise of single frames." for r in rows if r.is_master
    ]
    result = sort_out(handed, camera, by_offset=kind == "offset")
    notes += result.left_out
    kept = [r for r in rows if r.id in result.kept]
    if not any(r.kind == "bias" for r in kept):
        raise Conflict(
            "There are no bias frames among these that can be measured. " + " ".join(notes),
            "Choose raw bias frames of this camera.",
        )
    facts = facts_from_json(kept[0].facts)
    gains = sorted({_settings_of(r)[0] for r in kept})
    made = max((r.last_utc for r in kept if r.last_utc), default=library.clock.now())
    temps = [float(r.facts["sensor_temp_c"]) for r in kept if r.facts.get("sensor_temp_c") is not None]
    row = Measurement(
        kind=kind,
        camera=camera,
        rig_id=rig_id,
        source="disk",
        gains=gains,
        settings=as_kept(
            MeasurementSettings(
                white_adu=_white_of(kept),
                width=facts.width,
                height=facts.height,
                bayer_pattern=facts.bayer_pattern,
                sample_step=_common_step(kept),
                temp_c=sum(temps) / len(temps) if temps else None,
                set_ids=tuple(r.id for r in kept),
            )
        ),
        notes=notes,
        made_at=made,
    )
    session.add(row)
    session.flush()
    return row


def _common_step(rows: Sequence[FrameSet]) -> int | None:
    """The step of the samples, as far as any set tells: a full or an empty frame has none."""
    known = Counter(r.sample_step for r in rows if r.sample_step is not None)
    return known.most_common(1)[0][0] if known else None


def _white_of(rows: Sequence[FrameSet]) -> int:
    """The level at which the camera is full: the end of unshifted 12 or 14 bits where flats stand at it, else by the step."""
    ends = [int(r.level_adu) for r in rows if r.kind == "flat" and r.level_adu in UNSHIFTED_ENDS]
    told = [facts.full_adu for r in rows if (facts := facts_from_json(r.facts)).full_adu is not None]
    return max(ends, default=lower_full(camera_white(_common_step(rows)), max(told, default=None)))


def _handed_in(row: FrameSet) -> HandedIn:
    facts = facts_from_json(row.facts)
    return HandedIn(
        row.id,
        row.n_kept,
        facts.camera,
        facts.width,
        facts.height,
        facts.gain,
        facts.offset,
        facts.binning_x,
        row.sample_step,
        facts.sensor_temp_c,
        facts.read_mode,
        facts.bits == 16,
    )


def read_from_disk(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Read the frames of a measurement; frames that were read before it was cut short are not read again."""
    measurement_id = read(MeasurementJob, params).measurement_id
    with library.db.session() as session:
        row = session.get_one(Measurement, measurement_id)
        reader = _Reader(library, control, row)
        sets = [session.get(FrameSet, i) for i in settings_of(row).set_ids]
        frames = {
            s.id: [f for f in s.frames if not f.rejected and f.state in ("good", "lacking")]
            for s in sets
            if s is not None
        }
    known = [s for s in sets if s is not None]
    if row.kind == "offset":
        reader.read_offsets([s for s in known if s.kind == "bias"], frames)
        _set_aside(library, measurement_id)
    else:
        reader.read_pairs(known, frames)
    with library.db.session() as session:
        if reader.notes:
            kept = session.get_one(Measurement, measurement_id)
            kept.notes = [*kept.notes, *reader.notes]
    library.touched()
    named = gains_named(word_where_measured(library, row.camera), row.gains)
    return JobResult(f"{row.camera} at {named}: read.")


class _Reader:
    """Reads the frames of one measurement and keeps what they said."""

    def __init__(self, library: Library, control: JobControl, row: Measurement) -> None:
        self.library, self.control, self.row = library, control, row
        self.notes: list[str] = []
        self._total = self._pairs_read = 0
        with library.db.session() as session:
            self.done = set(
                session.scalars(select(MeasurementShot.path).where(MeasurementShot.measurement_id == row.id))
            )

    def _pixels(self, frame: Frame) -> NDArray[Any] | None:
        """A frame's pixels, where it is raw and 16 bit; else a note."""
        try:
            with self.library.db.session() as session:
                path = self.library.frame_path(session, session.get_one(Frame, frame.id))
            pixels = read_pixels(path)
        except (GrayShelfError, OSError) as error:
            self.notes.append(f"{Path(frame.path).name} was left out: {error}")
            return None
        if pixels.dtype != np.uint16:
            self.notes.append(
                f"{Path(frame.path).name} was left out: it holds processed values, not the camera's 16-bit levels."
            )
            return None
        return pixels

    def _keep(
        self, frame: Frame, gain: float, offset: float, role: str, reading: dict[str, Any], **more: Any
    ) -> None:
        with self.library.db.session() as session:
            session.add(
                MeasurementShot(
                    measurement_id=self.row.id,
                    gain=gain,
                    offset=offset,
                    role=role,
                    exposure_s=float(frame.facts.get("exposure_s") or 0.0),
                    reading=reading,
                    taken_at=frame.utc,
                    frame_id=frame.id,
                    path=f"{frame.folder_id}:{frame.path}",
                    **more,
                )
            )
        self.done.add(f"{frame.folder_id}:{frame.path}")

    def read_offsets(self, sets: Sequence[FrameSet], frames: dict[int, list[Frame]]) -> None:
        todo: list[tuple[float, float, Frame]] = []
        taken: dict[tuple[float, float], int] = {}
        for row in sets:
            key = (float(row.facts["gain"]), float(row.facts["offset"]))
            for frame in frames[row.id]:
                if taken.get(key, 0) < MOST_BIAS:
                    taken[key] = taken.get(key, 0) + 1
                    todo.append((*key, frame))
        for number, (gain, offset, frame) in enumerate(todo):
            self.control.check()
            self.control.report(number / len(todo), f"Bias {number + 1} of {len(todo)}")
            if f"{frame.folder_id}:{frame.path}" in self.done:
                continue
            pixels = self._pixels(frame)
            if pixels is not None:
                self._keep(frame, gain, offset, "bias", asdict(read_bias(pixels, offset)))

    def read_pairs(self, sets: Sequence[FrameSet], frames: dict[int, list[Frame]]) -> None:
        # A gain or an offset that none of them tells is one: 0 stands for it.
        settings = sorted({_settings_of(s) for s in sets})
        self._total = sum(len(_couples(frames[s.id], MOST_BIAS_PAIRS)) for s in sets)
        for gain, offset in settings:
            here = [s for s in sets if _settings_of(s) == (gain, offset)]
            bias = [c for s in here if s.kind == "bias" for c in _couples(frames[s.id], MOST_BIAS_PAIRS)]
            flats = [
                (s, c) for s in here if s.kind == "flat" for c in _couples(frames[s.id], MOST_PAIRS_OF_SET)
            ]
            if not flats or not bias:
                if flats:
                    word = word_where_measured(self.library, self.row.camera)
                    at = listed(
                        [gain_named(word, gain), *([f"offset {offset:g}"] if _tells_offset(here) else [])]
                    )
                    self.notes.append(
                        f"The flats of {at} were left out: there are no two bias frames of these settings."
                    )
                continue
            self._gain(gain, offset, flats, bias[:MOST_BIAS_PAIRS])

    def _gain(
        self,
        gain: float,
        offset: float,
        flats: Sequence[tuple[FrameSet, tuple[Frame, Frame]]],
        bias: Sequence[tuple[Frame, Frame]],
    ) -> None:
        settings = settings_of(self.row)
        pattern, white = settings.bayer_pattern, settings.white_adu
        first = self._pixels(bias[0][0])
        level = float(np.median(first)) if first is not None else 0.0
        part: dict[str, NDArray[np.bool_]] = {}
        for source, pair in flats:
            two = self._two(pair)
            if two is None:
                continue
            a, b = (channels(p, pattern) for p in two)
            if not part:
                part = {name: even_part(plane, level) for name, plane in a.items()}
            self._keep_pair(
                pair,
                gain,
                offset,
                "flat",
                {
                    name: read_pair(
                        a[name],
                        b[name],
                        part[name],
                        pedestal_adu=level,
                        white_adu=white,
                        exposure_s=float(source.facts.get("exposure_s") or 0.0),
                        source=_light_of(source),
                    )
                    for name in a
                },
            )
        samples: dict[str, list[NDArray[np.uint16]]] = {}
        for pair in bias:
            two = self._two(pair)
            if two is None:
                continue
            a, b = (channels(p, pattern) for p in two)
            for plane in (a, b):
                for name in plane:
                    samples.setdefault(name, []).append(thinned(plane[name]))
            parts = part or {name: whole_part(plane) for name, plane in a.items()}
            self._keep_pair(
                pair,
                gain,
                offset,
                "bias",
                {name: read_pair(a[name], b[name], parts[name], white_adu=white) for name in a},
            )
        self._usual(gain, samples)

    def _two(self, pair: tuple[Frame, Frame]) -> tuple[NDArray[np.uint16], NDArray[np.uint16]] | None:
        self.control.check()
        self._pairs_read += 1
        share = min(self._pairs_read / max(self._total, 1), 1.0)
        self.control.report(share, f"{Path(pair[0].path).name} and the next")
        a, b = self._pixels(pair[0]), self._pixels(pair[1])
        return None if a is None or b is None else (a, b)

    def _keep_pair(
        self, pair: tuple[Frame, Frame], gain: float, offset: float, role: str, readings: dict[str, Any]
    ) -> None:
        if f"{pair[1].folder_id}:{pair[1].path}" in self.done:
            return
        if f"{pair[0].folder_id}:{pair[0].path}" not in self.done:
            self._keep(pair[0], gain, offset, role, {})
        self._keep(pair[1], gain, offset, role, pairs_as_json(readings))

    def _usual(self, gain: float, samples: dict[str, list[NDArray[np.uint16]]]) -> None:
        step = settings_of(self.row).step
        usual = {name: usual_noise(items, step) for name, items in samples.items()}
        with self.library.db.session() as session:
            row = session.get_one(Measurement, self.row.id)
            known = {name: v for name, v in usual.items() if v is not None}
            keep_settings(row, with_usual(settings_of(row), gain, known))


def _settings_of(row: FrameSet) -> tuple[float, float]:
    return float(row.facts.get("gain") or 0.0), float(row.facts.get("offset") or 0.0)


def _tells_offset(rows: Sequence[FrameSet]) -> bool:
    return any(row.facts.get("offset") is not None for row in rows)


def _light_of(flats: FrameSet) -> str:
    """By what flats may be of one light: whether they are, their rates tell when the line of time is drawn."""
    facts = flats.facts
    parts = (flats.night, facts.get("telescope"), facts.get("filter_code"))
    return ", ".join(str(p) for p in parts if p is not None) or f"set {flats.id}"


def _couples(frames: Sequence[Frame], most: int) -> list[tuple[Frame, Frame]]:
    """Neighbours in time, two by two."""
    ordered = sorted(frames, key=lambda f: (f.utc is None, f.utc or 0, f.path))
    return list(_by_two(ordered))[:most]


def _by_two(frames: Sequence[Frame]) -> Iterator[tuple[Frame, Frame]]:
    return zip(frames[::2], frames[1::2], strict=False)


def _set_aside(library: Library, measurement_id: int) -> None:
    """Bias frames at offsets that no light uses were taken to find the offset: they leave the shelf."""
    with library.db.session() as session:
        row = session.get_one(Measurement, measurement_id)
        used = {
            (s.facts.get("gain"), s.facts.get("offset"))
            for s in session.scalars(
                select(FrameSet).where(FrameSet.kind.in_(("light", "flat")), FrameSet.camera == row.camera)
            )
        }
        for held in session.scalars(select(FrameSet).where(FrameSet.id.in_(settings_of(row).set_ids))):
            pair = (held.facts.get("gain"), held.facts.get("offset"))
            if pair not in used and held.measurement_id is None:
                held.measurement_id = row.id
