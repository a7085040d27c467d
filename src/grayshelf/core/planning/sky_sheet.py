"""What flats on the twilight sky take of a plan: the sky is the light, and a bias comes off each."""

from __future__ import annotations

from collections.abc import Sequence

from grayshelf.core.flats.filter_words import through
from grayshelf.core.flats.sky.plan import PlannedRow
from grayshelf.core.planning.gates import zenith
from grayshelf.core.planning.sheet import FlatSeries, RigPace, RunSheet, SheetStep, StepKind, series_seconds

#: The exposure of a flat of the sky where nobody knows which sun it will have (middle of a usual window).
SKY_EXPOSURE_S = 4.0


def sky_sheet(
    rows: Sequence[FlatSeries], pace: RigPace, laid: Sequence[tuple[int, PlannedRow]] | None = None
) -> RunSheet:
    """The sheet of flats on the sky: one hand at the zenith, no panel, no diffuser, no dark flats.

    Parameters
    ----------
    laid
        Places in `rows` with how each lies in the twilight, in the order to shoot them: only what fits is on the sheet,
        and a wait for the sky counts for the row that is waited for. None where nobody said where the rig stands; each
        flat takes a middle exposure then.
    """
    gate = zenith((), "")
    steps = [SheetStep(StepKind.GATE, gate.title, pace.gate_s, needs_person=True, gate=gate)]
    if laid is None:
        for index, row in enumerate(rows):
            seconds = pace.wheel_s + series_seconds(row.n_flats, SKY_EXPOSURE_S, pace)
            steps.append(_flats(index, row, row.n_flats, SKY_EXPOSURE_S, seconds))
        return RunSheet(tuple(steps), tuple(rows), ())
    before_s: float | None = None
    for index, place in laid:
        if place.begins_s is None or place.ends_s is None or not place.planned:
            continue
        seconds = place.ends_s - (place.begins_s if before_s is None else before_s)
        steps.append(_flats(index, rows[index], place.planned, place.first_exposure_s, seconds))
        before_s = place.ends_s
    return RunSheet(tuple(steps), tuple(rows), ())


def _flats(index: int, row: FlatSeries, count: int, exposure_s: float | None, seconds: float) -> SheetStep:
    return SheetStep(
        StepKind.FLATS,
        f"{count} flats{through(row.filter_code)}",
        seconds,
        filter_code=row.filter_code,
        count=count,
        exposure_s=exposure_s,
        row=index,
    )
