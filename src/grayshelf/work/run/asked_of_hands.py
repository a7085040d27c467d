"""What a run by any hands asks of each frame: its settings, and where its level should lie."""

from __future__ import annotations

from typing import TYPE_CHECKING

from grayshelf.core.checks.asked_for import AskedFor
from grayshelf.core.checks.frames import (
    FrameFault,
    capped_level_adu,
    dark_allowance_adu,
    flat_level,
    light_leak,
)
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.sheet import SERIES, StepKind
from grayshelf.core.sensor.statistics import FlatStatistics
from grayshelf.library.models import RunStep
from grayshelf.library.records import read
from grayshelf.library.rig_terms import gain_word, says_of, tolerances_of, traits_at
from grayshelf.library.step_records import SearchOutcome, SheetParams, ShotStats

if TYPE_CHECKING:
    from grayshelf.work.run.hand import HandRun


def kind_of(step: RunStep) -> FrameKind:
    """Of which kind the frames of a step are; a search takes flats."""
    return SERIES.get(StepKind(step.kind), FrameKind.FLAT)


class AskedOfHands:
    """The sheet of one run, as frames are held against it."""

    def __init__(self, run: HandRun) -> None:
        self.run = run
        with run.library.db.session() as session:
            rig = run.library.rig(session, run.rig.id)
            self.near, self.says = tolerances_of(rig), says_of(run.library, rig)
        self.word = gain_word(run.library, run.rig.camera)

    def asked(self, step: RunStep) -> AskedFor:
        """What a frame of a step has to be."""
        params, near, kind = read(SheetParams, step.params), self.near, kind_of(step)
        exposure = params.exposure_s if params.exposure_known and step.kind != StepKind.FIND else None
        # A bias is as short as its camera can; programs write 0 s, 0.001 s or nothing.
        exposure = None if kind is FrameKind.BIAS else exposure
        if step.row is None:
            return AskedFor(
                self.run.rig.camera,
                "",
                self.says.to_set("gain", params.gain),
                params.binning or 1,
                self.says.to_set("offset", params.offset),
                self.word,
                kind,
                exposure,
                near.dark_exposure_percent if kind is FrameKind.DARK else near.dark_flat_exposure_percent,
                params.set_temp_c if kind is FrameKind.DARK else None,
                near.dark_temp_c,
                read_mode=params.read_mode,
            )
        row = self.run.rows[step.row]
        flat = kind is FrameKind.FLAT
        return AskedFor(
            self.run.rig.camera,
            row.filter_code,
            self.says.to_set("gain", row.gain),
            row.binning,
            self.says.to_set("offset", row.offset),
            self.word,
            kind,
            exposure,
            near.dark_flat_exposure_percent,
            angle_deg=row.angle_deg if flat else None,
            angle_within_deg=near.flat_angle_deg,
            focus=row.focus if flat else None,
            focus_within=near.flat_focus_steps,
            read_mode=row.read_mode,
        )

    def wrong_level(self, step: RunStep, asked: AskedFor, stats: FlatStatistics) -> str:
        """What is wrong with a frame's level: a flat beside its target, light on a capped frame."""
        key = RowKey(asked.filter_code, asked.gain or 0.0, asked.offset or 0.0, asked.binning)
        if asked.kind is FrameKind.FLAT:
            target = self.run.row(step).target
            fault = flat_level(stats, target.level_adu, target.tolerance_adu)
        else:
            fault = self._leak(step, key, asked, stats)
        return f"{fault.message} {fault.advice}" if fault else ""

    def _leak(self, step: RunStep, key: RowKey, asked: AskedFor, stats: FlatStatistics) -> FrameFault | None:
        """Light on a capped frame."""
        run, pedestal = self.run, self.run.pedestal_of(key)
        fitted, tolerance_adu = None, 0.0
        if step.row is not None:
            with run.library.db.session() as session:
                finds = [s for s in run.steps(session) if s.row == step.row and s.kind == StepKind.FIND]
            found = [f for s in finds if (f := read(SearchOutcome, s.outcome).found) is not None]
            fitted = found[-1].pedestal_adu if found else None
            tolerance_adu = run.row(step).target.tolerance_adu
        series = [read(ShotStats, shot.stats).median for shot in run.shots(step)]
        level = capped_level_adu(None if pedestal is None else pedestal.adu, fitted, tolerance_adu, series)
        if level is None:
            return None
        dark_adu = 0.0
        if asked.kind is FrameKind.DARK:
            with run.library.db.session() as session:
                traits = traits_at(run.library, run.library.rig(session, run.rig.id), asked.gain)
            dark_adu = dark_allowance_adu(traits, asked.temp_c, asked.exposure_s or 0.0)
        return light_leak(stats, level, dark_adu)
