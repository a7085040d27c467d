"""Bringing a sensor to its set point, and how long that took before."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import object_session

from grayshelf.clock import Clock
from grayshelf.core.errors import DeviceError
from grayshelf.core.planning.cooling_pace import NEWEST, seconds_per_c
from grayshelf.core.planning.sheet import COOLER_SETTLES_S, StepKind
from grayshelf.devices.ports import Camera, CoolerState
from grayshelf.library.models import Job, Rig, RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import SeriesOutcome
from grayshelf.work.job_states import StepState
from grayshelf.work.jobs import JobControl

#: The sensor is at its set point when it is so near, and looked at so often; it is given up after so long.
AT_SET_POINT_C, LOOKED_AT_S, GIVEN_UP_S = 0.2, 10.0, 1800.0
#: A dark whose sensor was further off than this is none of its set point (common practice: a cooler holds ±0.2 °C).
OFF_SET_POINT_C = 0.3


#: A sensor is warmed by so much at a time, and given so long for it (common practice: no faster than 5 °C a minute).
WARMED_BY_C, WARMED_EACH_S = 5.0, 60.0
#: A cooler that works no harder than this may be switched off.
MAY_BE_OFF_PERCENT = 8.0
#: From the coldest to the warmest there is.
MOST_WARMINGS = 40


def warm_up(camera: Camera, clock: Clock, control: JobControl) -> None:
    """Bring a sensor to the air's temperature little by little, then switch its cooler off."""
    for _ in range(MOST_WARMINGS):
        state = camera.cooler()
        if state.set_point_c is None or state.power_percent <= MAY_BE_OFF_PERCENT:
            break
        control.check()
        warm_c = sensor_of(camera, state)
        control.report(0.99, f"Warming the sensor: {warm_c:.0f} °C".replace("-", "−"))
        camera.set_temperature(warm_c + WARMED_BY_C)
        clock.sleep(WARMED_EACH_S, control.cancel)
    camera.cooler_off()


def sensor_of(camera: Camera, state: CoolerState) -> float:
    """How warm the sensor is.

    Raises
    ------
    DeviceError
        Where the camera does not tell.
    """
    if state.sensor_c is None:
        raise DeviceError(
            f"{camera.facts.name} does not tell how warm its sensor is, so darks cannot be shot at a set point.",
            "Leave the set point out, or cool it with its own program.",
        )
    return state.sensor_c


def cool_to(goal_c: float, camera: Camera, clock: Clock, control: JobControl) -> None:
    """Bring the sensor to its set point and let it settle.

    Raises
    ------
    DeviceError
        Where it does not get there in half an hour.
    """
    began = clock.now()
    camera.set_temperature(goal_c)
    while abs(sensor_of(camera, camera.cooler()) - goal_c) > AT_SET_POINT_C:
        control.check()
        clock.sleep(LOOKED_AT_S, control.cancel)
        waited_s = (clock.now() - began).total_seconds()
        state = camera.cooler()
        sensor_c = sensor_of(camera, state)
        control.report(0.5, f"Sensor at {sensor_c:.1f} °C, cooler at {state.power_percent:.0f} %")
        if waited_s > GIVEN_UP_S:
            raise DeviceError(
                f"The sensor is at {sensor_c:.1f} °C after {waited_s / 60:.0f} minutes and does not reach "
                f"{goal_c:.0f} °C. No dark was shot, since it would not match.",
                "Choose a warmer set point, or wait for a colder night.",
            )
    clock.sleep(COOLER_SETTLES_S, control.cancel)


def cooling_seen(rig: Rig) -> float | None:
    """Seconds for a degree by the newest set points that the rig's runs reached; None where none tells."""
    session = object_session(rig)
    if session is None:
        return None
    query = (
        select(RunStep.outcome)
        .join(Job, Job.id == RunStep.job_id)
        .where(Job.rig_id == rig.id, RunStep.kind == StepKind.COOL, RunStep.state == StepState.DONE)
        .order_by(RunStep.id.desc())
        .limit(4 * NEWEST)
    )
    reached = [read(SeriesOutcome, outcome).cooled for outcome in session.scalars(query)]
    return seconds_per_c([one for one in reached if one is not None])
