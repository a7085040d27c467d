"""Series of frames: how they are taken, and what is wrong with one of them."""

from __future__ import annotations

from collections.abc import Callable

from grayshelf.core.checks.frames import light_leak
from grayshelf.core.flats.model import Pedestal
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.sheet import StepKind
from grayshelf.core.sensor.statistics import FlatStatistics
from grayshelf.library.models import RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import GateParams, SheetParams
from grayshelf.work.shooting import ShotSettings

#: Says what is wrong with a frame, if anything is.
Judge = Callable[[FlatStatistics], str]


def settings_of_no_row(step: RunStep, kind: FrameKind) -> ShotSettings:
    """How frames that belong to no row of flats are taken."""
    p = read(SheetParams, step.params)
    assert p.exposure_s is not None and p.gain is not None and p.offset is not None and p.binning is not None
    return ShotSettings(kind, p.exposure_s, p.gain, p.offset, p.binning)


def leak_judge(pedestal: Pedestal | None) -> Judge:
    """Tells of light on a capped frame, where the pedestal is known; dark current in a flat's time is no matter."""

    def judge(stats: FlatStatistics) -> str:
        finding = light_leak(stats, pedestal.adu) if pedestal is not None else None
        return f"{finding.message} {finding.advice}" if finding else ""

    return judge


def forecast_s(step: RunStep) -> float:
    """How long a step of a sheet was forecast to take, in seconds."""
    if step.kind == StepKind.GATE:
        return read(GateParams, step.params).seconds
    return read(SheetParams, step.params).seconds
