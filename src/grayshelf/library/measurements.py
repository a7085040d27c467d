"""Measurements of cameras: their rows as readings, their frames as sets with a purpose, and what was accepted."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from grayshelf.core.errors import NotFound
from grayshelf.core.sensor.bias import BiasReading
from grayshelf.core.sensor.offset import OffsetLadder, OffsetReading, read_offsets
from grayshelf.core.sensor.pairs import PairReading
from grayshelf.core.sensor.transfer import read_transfer
from grayshelf.core.sensor.transfer_points import Transfer
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.measurement_records import by_gain, settings_of
from grayshelf.library.models import Measurement, MeasurementShot


def measurement(session: Session, measurement_id: int) -> Measurement:
    """A measurement by its number."""
    row = session.get(Measurement, measurement_id)
    if row is None:
        raise NotFound("There is no such measurement.", "Choose one in the list.")
    return row


def _bias(shot: MeasurementShot) -> BiasReading:
    values = dict(shot.reading)
    values["lowest"] = tuple((int(i), int(v)) for i, v in values["lowest"])
    return BiasReading(**values)


def offset_readings(session: Session, measurement_id: int, gain: float) -> list[BiasReading]:
    """The bias frames of a measurement at one gain, read."""
    rows = session.scalars(
        select(MeasurementShot)
        .where(MeasurementShot.measurement_id == measurement_id, MeasurementShot.gain == gain)
        .order_by(MeasurementShot.id)
    )
    return [_bias(row) for row in rows if row.reading]


def ladder_of(row: Measurement) -> OffsetLadder:
    """The offsets there are for a measurement's camera, and how sure its answer should be."""
    settings = settings_of(row)
    low, high = settings.offset_range or (0.0, 255.0)
    return OffsetLadder(
        lowest=low,
        highest=high,
        white_adu=settings.white_adu,
        sample_step=settings.step,
        margin_adu=settings.margin_adu,
        long_dark_s=settings.long_dark_s,
    )


@kept(8)
def _offset_result(
    library: Library, measurement_id: int, gain: float, _n_shots: int, ladder: OffsetLadder
) -> tuple[list[BiasReading], OffsetReading]:
    with library.db.own_session() as session:
        readings = offset_readings(session, measurement_id, gain)
    return readings, read_offsets(readings, ladder)


def offset_result(
    library: Library, session: Session, row: Measurement, gain: float
) -> tuple[list[BiasReading], OffsetReading]:
    """The bias frames of a measurement at one gain and what they say together; kept until there are more."""
    # A frame that is there but not read yet adds nothing.
    count = session.scalar(
        select(func.count()).where(
            MeasurementShot.measurement_id == row.id,
            MeasurementShot.gain == gain,
            MeasurementShot.reading["mean"].as_float().is_not(None),
        )
    )
    return _offset_result(library, row.id, gain, count or 0, ladder_of(row))


def pair_readings(
    session: Session, measurement_id: int, gain: float, role: str
) -> dict[str, list[PairReading]]:
    """The pairs of a measurement at one gain by colour channel; '' is a mono sensor's only one."""
    found: dict[str, list[PairReading]] = {}
    rows = session.scalars(
        select(MeasurementShot)
        .where(
            MeasurementShot.measurement_id == measurement_id,
            MeasurementShot.gain == gain,
            MeasurementShot.role == role,
        )
        .order_by(MeasurementShot.id)
    )
    for row in rows:
        for channel, values in row.reading.get("channels", {}).items():
            found.setdefault(channel, []).append(PairReading(**values))
    return found


def transfers(session: Session, row: Measurement, gain: float) -> dict[str, Transfer]:
    """What the pairs of a measurement say at one gain, by colour channel."""
    flats = pair_readings(session, row.id, gain, "flat")
    bias = pair_readings(session, row.id, gain, "bias")
    settings = settings_of(row)
    usual = settings.usual.get(by_gain(gain), {})
    return {
        channel: read_transfer(
            pairs,
            bias.get(channel, []),
            white_adu=settings.white_adu,
            sample_step=settings.step,
            usual_noise_adu=usual.get(channel),
        )
        for channel, pairs in flats.items()
    }


def pairs_as_json(channels: Mapping[str, PairReading]) -> dict[str, Any]:
    """Readings of one pair, as they are kept."""
    return {"channels": {name: asdict(reading) for name, reading in channels.items()}}


def measurements_of(session: Session, camera: str, kind: str) -> Sequence[Measurement]:
    """The measurements of a camera, newest first."""
    return session.scalars(
        select(Measurement)
        .where(Measurement.camera == camera, Measurement.kind == kind)
        .order_by(Measurement.id.desc())
    ).all()
