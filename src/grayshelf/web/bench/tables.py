"""Measurements as tables to take away."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select

from grayshelf.core.sensor.bias import BiasReading, DeadPixel, good_minimum, good_zeros
from grayshelf.core.sensor.transfer_points import TransferPoint
from grayshelf.library.library import Library
from grayshelf.library.measurements import measurement, offset_result, transfers
from grayshelf.library.models import CameraValue, Measurement
from grayshelf.web.bench.measurement import measurement_page
from grayshelf.web.bench.schemas import ChannelOut, OffsetGainOut

Table = list[Sequence[object]]
FRAME_HEAD = [
    "gain",
    "offset",
    "exposure_s",
    "mean_adu",
    "median_adu",
    "darkest_1_percent_adu",
    "darkest_0.01_percent_adu",
    "darkest_good_pixel_adu",
    "good_pixels_at_zero",
    "pixels",
]
PAIR_HEAD = [
    "gain",
    "channel",
    "source",
    "exposure_s",
    "level_adu",
    "signal_adu",
    "variance_adu2",
    "photon_variance_adu2",
    "in_slope",
    "residual_percent",
    "off_line_percent",
    "drift_percent",
]
OFFSET_HEAD = [
    "gain",
    "offset",
    "floor_adu",
    "floor_95_percent_adu",
    "margin_adu",
    "mean_adu",
    "cost_percent",
    "cost_stops",
    "confirmed",
    "frames",
]
GAIN_HEAD = [
    "gain",
    "channel",
    "e_per_adu",
    "e_per_adu_95_percent",
    "read_noise_e",
    "read_noise_95_percent",
    "usual_pixel_read_noise_e",
    "capacity_e",
    "full_well_e",
    "linear_limit_adu",
    "dynamic_range_stops",
    "e_per_native_step",
    "quick_estimate",
]


def file_name(row: Measurement) -> str:
    """A name for what is saved of a measurement."""
    return f"{row.kind}-{row.camera.replace(' ', '-').lower()}-{row.made_at:%Y-%m-%d}"


def as_table(library: Library, measurement_id: int) -> tuple[Table, str]:
    """One row a frame (offset) or a pair (gain), and a name for it."""
    with library.db.session() as session:
        row = measurement(session, measurement_id)
        if row.kind == "offset":
            table: Table = [FRAME_HEAD]
            for gain in row.gains:
                readings, result = offset_result(library, session, row, gain)
                table += [_frame(gain, r, result.dead) for r in readings]
            return table, file_name(row)
        table = [PAIR_HEAD]
        for gain in row.gains:
            for channel, transfer in transfers(session, row, gain).items():
                table += [_pair(gain, channel, p) for p in transfer.points]
        return table, file_name(row)


def _frame(gain: float, r: BiasReading, dead: Sequence[DeadPixel]) -> Sequence[object]:
    levels = (round(r.mean, 3), r.median, r.darkest_percent, r.darkest_permyriad)
    return (gain, r.offset, r.exposure_s, *levels, good_minimum(r, dead), good_zeros(r, dead), r.n_pixels)


def _pair(gain: float, channel: str, p: TransferPoint) -> Sequence[object]:
    def percent(value: float | None) -> float | None:
        return None if value is None else round(100 * value, 3)

    settings = (gain, channel or "mono", p.pair.source, p.pair.exposure_s)
    levels = (round(p.pair.mean_adu, 2), round(p.signal_adu, 2))
    variances = (round(p.pair.variance_adu2, 3), round(p.photon_variance_adu2, 3))
    return (
        *settings,
        *levels,
        *variances,
        p.used,
        percent(p.residual),
        percent(p.off_line),
        percent(p.pair.drift),
    )


def as_summary(library: Library, measurement_id: int) -> tuple[Table, str]:
    """What was found at each gain, as a table."""
    page = measurement_page(library, measurement_id)
    name = f"{page.kind}-{page.camera.replace(' ', '-').lower()}-by-gain"
    if page.gain is None:
        return [OFFSET_HEAD, *(_offset(g) for g in page.offset)], name
    return [GAIN_HEAD, *(_channel(g.gain, c) for g in page.gain.gains for c in g.channels)], name


def _offset(g: OffsetGainOut) -> Sequence[object]:
    a = g.answer
    found = (a.offset, a.floor) if a else (None, None)
    cost = (a.mean, a.cost_percent, a.cost_stops) if a else (None, None, None)
    return (g.gain, *found, g.uncertainty, g.margin, *cost, g.confirmed, g.n_frames)


def _channel(gain: float, c: ChannelOut) -> Sequence[object]:
    sure = (c.e_per_adu.value, c.e_per_adu.plus_minus, c.read_noise.value, c.read_noise.plus_minus)
    rest = (c.usual_read_noise, c.capacity, c.full_well, c.linear_limit, c.stops, c.e_per_step)
    return (gain, c.name or "mono", *sure, *(n.value for n in rest), c.quick)


def kept(library: Library, rig_id: int, kind: str) -> tuple[Table, str]:
    """Everything that was accepted of a rig's camera, newest last: the last of each gain is what counts."""
    with library.db.session() as session:
        camera = library.rig(session, rig_id).camera
        rows = session.scalars(
            select(CameraValue)
            .where(CameraValue.camera == camera, CameraValue.kind == kind)
            .order_by(CameraValue.id)
        ).all()
    names = sorted({name for row in rows for name in row.values})
    head = ["camera", "gain", "accepted_at", "own_choice", *names]
    table: Table = [head]
    for row in rows:
        values = (row.values.get(name) for name in names)
        table.append([camera, row.gain, row.accepted_at, row.own_choice, *values])
    return table, f"{kind}-{camera.replace(' ', '-').lower()}-kept"
