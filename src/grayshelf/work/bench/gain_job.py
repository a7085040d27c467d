"""The gain exercise before it begins: how long it takes, the shortest light it measures with, and its job."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from sqlalchemy.orm import Session

from grayshelf.core.flats.timed_light import TimedLight, light_of
from grayshelf.core.planning.gates import panel_warm
from grayshelf.core.sensor.gain_plan import seconds_for_gain
from grayshelf.core.sensor.gain_words import gain_named, gains_named
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.models import Rig, RunStep
from grayshelf.library.records import as_kept
from grayshelf.library.rig_terms import word_where_measured
from grayshelf.library.step_records import MeasureParams
from grayshelf.work.bench.exercise import make_job, make_measurement, settings_at_start
from grayshelf.work.gates import gate_step


def usual_seconds(devices: RigDevices, n_gains: int, shortest_s: float) -> float:
    """About how long the exercise takes."""
    camera = devices.camera.facts
    colours = 3 if camera.bayer_pattern else 1
    return n_gains * seconds_for_gain(shortest_s, camera.download_s, colours)


def shortest_for(devices: RigDevices, wish_s: float, timed: TimedLight | None = None) -> float:
    """The shortest time of light to measure with, in seconds: of the exposure, or of a light that is lit within it."""
    repeatable_s = devices.camera.facts.repeatable_from_s
    if timed is None:
        return max(wish_s, repeatable_s)
    return max(wish_s, timed.shortest_s, light_of(timed, repeatable_s))


def plan_gain(
    session: Session,
    library: Library,
    rig: Rig,
    devices: RigDevices,
    gains: Sequence[float],
    offsets: dict[str, float],
    filter_code: str | None,
    shortest_s: float,
    folder: str | None = None,
) -> int:
    """Write the exercise down; return its job.

    Parameters
    ----------
    offsets
        The offset to use at each gain, by its text.
    """
    row = make_measurement(
        session,
        library,
        rig,
        devices,
        "gain",
        gains,
        replace(settings_at_start(devices), offsets=offsets, filter_code=filter_code, shortest_s=shortest_s),
    )
    steps = [gate_step(panel_warm(by_hand=devices.panel is None))]
    word = word_where_measured(library, row.camera)
    steps += [
        RunStep(
            kind="transfer", title=_titled(gain_named(word, g)), count=56, params=as_kept(MeasureParams(g))
        )
        for g in row.gains
    ]
    return make_job(
        session, library, rig, row, f"{row.camera} at {gains_named(word, row.gains)}", steps, folder
    )


def _titled(words: str) -> str:
    return f"{words[:1].upper()}{words[1:]}"
