"""Holdings of a shelf, made up."""

from __future__ import annotations

from dataclasses import replace

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.match import pull_slip
from grayshelf.core.matching.model import Holding, Tolerances
from tests.helpers import settings

WANT = settings(angle=CameraAngle(91.2))


def hold(key="1", kind=FrameKind.DARK, n=50, pedestal_taken_off=None, care=(), is_master=True, **changes):
    changes = {"angle": CameraAngle(91.2), **changes}
    return Holding(key, kind, settings(**changes), n, is_master, care, pedestal_taken_off=pedestal_taken_off)


def line(kind, *holdings, want=WANT, tolerances=Tolerances(), events=()):
    slip = pull_slip(want, holdings, Terms(tolerances, events=events))
    return next(x for x in slip.lines if x.kind is kind)


FULL = settings(angle=CameraAngle(91.2), read_mode="normal", row_order="TOP-DOWN", sample_step=4)


def like(key, kind, want=FULL, n=30, **changes):
    """A holding with the lights' own settings, but for the changes."""
    return Holding(key, kind, replace(want, **changes), n)
