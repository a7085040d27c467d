"""What was accepted of a camera: its offset and its gain, by the gain they were measured at."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict
from grayshelf.core.sensor.offset import OffsetReading
from grayshelf.core.sensor.offset_checked import CheckedOffset
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import CameraValue, Measurement


def accepted(session: Session, camera: str, kind: str) -> dict[float, CameraValue]:
    """What counts now for a camera, by gain: the newest that was accepted."""
    rows = session.scalars(
        select(CameraValue)
        .where(CameraValue.camera == camera, CameraValue.kind == kind)
        .order_by(CameraValue.id)
    )
    return {row.gain: row for row in rows}


def accept(
    library: Library,
    session: Session,
    row: Measurement,
    gain: float,
    values: dict[str, Any],
    own_choice: bool,
) -> None:
    """Keep a value with the camera, with its evidence; what was kept before stays in the history."""
    session.add(
        CameraValue(
            kind=row.kind,
            camera=row.camera,
            gain=gain,
            values=values,
            own_choice=own_choice,
            measurement_id=row.id,
            accepted_at=library.clock.now(),
        )
    )
    session.flush()
    library.touched()


def offset_values(result: OffsetReading, offset: float | None) -> dict[str, Any] | None:
    """What to keep of an offset with its camera; None where the frames give no answer.

    Parameters
    ----------
    offset
        The person's own choice; None takes the measured one.
    """
    if result.answer is None or result.line is None or result.tail is None:
        return None
    effect = result.answer if offset is None else result.effect(offset)
    if effect is None:
        return None
    return {
        "offset": effect.offset,
        "lowest": result.answer.offset,
        "floor": effect.floor_adu,
        "uncertainty": result.uncertainty_adu,
        "margin": result.margin_adu,
        "at_zero": result.line.at_zero,
        "slope": result.line.slope,
        "depth": result.tail.depth(result.ladder.share_of_frames),
        "cost_percent": effect.cost_percent,
        "cost_stops": effect.cost_stops,
        "confirmed": result.confirmed,
    }


def forget_newest(library: Library, session: Session, camera: str, kind: str, gain: float) -> None:
    """Take the newest accepted value back; the one before it counts again."""
    newest = accepted(session, camera, kind).get(gain)
    if newest is None:
        raise Conflict("Nothing was accepted at this gain, so there is nothing to take back.")
    session.delete(newest)
    session.flush()
    library.touched()


@dataclass(frozen=True)
class MeasuredGain:
    """What the Bench says of a camera at one gain."""

    e_per_adu: float
    read_noise_e: float
    linear_limit_adu: float | None


@kept(16)
def _known(
    library: Library, camera: str, _revision: int
) -> tuple[dict[float, MeasuredGain], dict[float, CheckedOffset]]:
    with library.db.own_session() as session:
        gains = {
            gain: MeasuredGain(
                row.values["e_per_adu"], row.values["read_noise_e"], row.values.get("linear_limit_adu")
            )
            for gain, row in accepted(session, camera, "gain").items()
        }
        offsets = {
            gain: CheckedOffset(
                row.values["offset"],
                row.values["lowest"],
                row.values["at_zero"],
                row.values["slope"],
                row.values["depth"],
                row.accepted_at.date(),
            )
            for gain, row in accepted(session, camera, "offset").items()
        }
        return gains, offsets


def measured_gain(library: Library, camera: str, gain: float | None) -> MeasuredGain | None:
    """What was measured of a camera at a gain; None where nothing was."""
    return None if gain is None else _known(library, camera, library.revision)[0].get(gain)


def checked_offsets(library: Library, camera: str) -> dict[float, CheckedOffset]:
    """The offsets that were checked for a camera, by gain."""
    return _known(library, camera, library.revision)[1]
