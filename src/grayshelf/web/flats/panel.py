"""What was measured of a rig's light, and how it changed."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import datetime

from sqlalchemy.orm import Session

from grayshelf.core.flats.panel.response import change_since, fit_response, log_factor
from grayshelf.library.flat_sheet import Source
from grayshelf.library.models import PanelCurve, Rig
from grayshelf.library.panel_curves import (
    curve_points,
    curves_of,
    last_outlived,
    newest_first,
    path_of_point,
    points_as_json,
)
from grayshelf.web.common import in_words
from grayshelf.web.flats.schemas import CurveOut, CurvePointOut, KeptCurveOut, PanelOut
from grayshelf.work.flats.panel_shots import PanelShots

#: Brightness values of a drawn curve.
CURVE_STEPS = 60
#: Measurements that are listed, the newest first.
MOST_LISTED = 8


def panel_out(
    session: Session, rig: Rig, source: Source, now_at: datetime, measuring: PanelShots | None
) -> PanelOut | None:
    """The newest curve of the rig's light, the oldest one, and how it changed between them.

    Parameters
    ----------
    measuring
        What is seen of it just now: it is shown in the place of the newest curve.
    """
    if source.dimmer is None or source.id is None:
        return None
    curves = curves_of(session, source.id, rig)
    counting = curves[0] if curves else None
    if measuring is not None and measuring.makes_a_curve:
        live = PanelCurve(points=points_as_json(measuring.points), shots=measuring.n_shots, made_at=now_at)
        curves = [live, *curves]
    now = curves[0] if curves else None
    before = curves[-1] if len(curves) > 1 else None
    change = ""
    if now is not None and before is not None:
        told = change_since(curve_points(before), curve_points(now), source.dimmer)
        if told is not None:
            share, spread = told
            word = "faded" if share < 0 else "grown brighter"
            filters = f" (±{100 * spread:.0f} % over the filters)" if spread >= 0.01 else ""
            change = (
                f"{in_words.number(abs(100 * share), 1)} % {word} since {in_words.day(before.made_at.date())}{filters}"
                if abs(share) >= 0.005
                else f"as bright as on {in_words.day(before.made_at.date())}"
            )
    return PanelOut(
        source=source.name,
        title=_title(session, rig, source, now, measuring),
        lowest=source.dimmer.lowest,
        highest=source.dimmer.highest,
        now=_curve(now, source, now) if now is not None else None,
        before=_curve(before, source, now) if before is not None else None,
        kept=[
            KeptCurveOut(
                id=c.id,
                text=f"{in_words.day(c.made_at.date())}, {in_words.several(c.shots, 'shot')}",
                taken_back=c.taken_back,
                counts=c is counting,
            )
            for c in newest_first(session, source.id, rig)[:MOST_LISTED]
        ],
        change=change,
        bands=f"From {in_words.seconds(round(source.pulse.steady_from_s, 2))} on no exposure bands more than 0.5 %; "
        "shorter ones are chosen to whole pulses."
        if source.pulse is not None
        else "",
    )


def _title(
    session: Session, rig: Rig, source: Source, now: PanelCurve | None, measuring: PanelShots | None
) -> str:
    if measuring is not None:
        return f"Measuring {source.name}: {in_words.several(measuring.n_shots, 'shot')} so far"
    if now is not None:
        return f"How {source.name} follows its brightness"
    outlived = last_outlived(session, source.id or 0, rig)
    if outlived is not None:
        return f"{source.name} was replaced since it was measured on {in_words.day(outlived.made_at.date())}"
    if newest_first(session, source.id or 0, rig):
        return f"No measurement of {source.name} counts"
    return f"{source.name} was never measured"


def _curve(curve: PanelCurve, source: Source, reference: PanelCurve | None) -> CurveOut:
    """A curve relative to the newest one's highest output, so that a fading shows."""
    dimmer = source.dimmer
    assert dimmer is not None
    points = curve_points(curve)
    response = fit_response(points, dimmer)
    shift = 0.0
    if reference is not None and reference is not curve:
        told = change_since(curve_points(reference), points, dimmer)
        shift = math.log1p(told[0]) if told else 0.0
    outs = []
    for group in dict.fromkeys(p.group for p in points):
        own = [p for p in points if p.group == group]
        factor = log_factor(response, own) or 0.0
        outs += [
            CurvePointOut(
                brightness=p.brightness,
                output=math.exp(math.log(p.rate) - factor + shift),
                filter_code=path_of_point(p).filter_code,
            )
            for p in own
        ]
    span = dimmer.highest - dimmer.lowest
    steps = [dimmer.lowest + span * i / CURVE_STEPS for i in range(CURVE_STEPS + 1)]
    return CurveOut(
        when=in_words.day(curve.made_at.date()),
        shots=curve.shots,
        points=outs,
        line=[[b, math.exp(response.log_output(b) + shift)] for b in steps],
    )


def as_table(session: Session, rig: Rig, source: Source) -> tuple[list[Sequence[object]], str]:
    """Every measurement of the rig's light to take away, the newest first."""
    rows: list[Sequence[object]] = [
        ["measured_at", "filter", "gain", "binning", "brightness", "rate_adu_s", "output_of_highest"]
    ]
    if source.id is not None and source.dimmer is not None:
        for curve in curves_of(session, source.id, rig):
            response = fit_response(curve_points(curve), source.dimmer)
            for p in curve.points:
                output = round(math.exp(response.log_output(p["brightness"])), 5)
                where = [p["filter_code"], p["gain"], p["binning"], p["brightness"]]
                rows.append([curve.made_at, *where, round(p["rate"], 3), output])
    return rows, f"panel-{source.name.replace(' ', '-').lower()}"
