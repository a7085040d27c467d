"""What flats on the twilight sky take of a plan: the sky is the light, and a bias comes off each."""

from __future__ import annotations

from collections.abc import Sequence

from grayshelf.core.planning.gates import zenith
from grayshelf.core.planning.sheet import FlatSeries, RigPace, RunSheet, SheetStep, StepKind, series_seconds

#: The exposure of a flat of the sky to reckon with: each has its own (middle of a usual window).
SKY_EXPOSURE_S = 4.0


def sky_sheet(rows: Sequence[FlatSeries], pace: RigPace) -> RunSheet:
    """The sheet of flats on the sky: one hand at the zenith, no panel, no diffuser, no dark flats."""
    gate = zenith((), "")
    steps = [SheetStep(StepKind.GATE, gate.title, pace.gate_s, needs_person=True, gate=gate)]
    steps += [
        SheetStep(
            StepKind.FLATS,
            f"{row.n_flats} flats in {row.filter_code}",
            pace.wheel_s + series_seconds(row.n_flats, SKY_EXPOSURE_S, pace),
            filter_code=row.filter_code,
            count=row.n_flats,
            exposure_s=SKY_EXPOSURE_S,
            row=index,
        )
        for index, row in enumerate(rows)
    ]
    return RunSheet(tuple(steps), tuple(rows), ())
