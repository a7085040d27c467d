"""Filling the shelf: what is shot in the time there is, with nobody needed, and what it is good for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.matching.model import Holding
from grayshelf.core.planning.cooler_reach import CoolerReach, reach_of
from grayshelf.core.planning.fill import Cooling, Count, Fillable, fill
from grayshelf.core.planning.forecast import TimedStep, bytes_needed, timed
from grayshelf.core.planning.sheet import RigPace, RunSheet
from grayshelf.core.planning.time_there_is import TimeThereIs, time_there_is
from grayshelf.devices.ports import RigDevices
from grayshelf.library.cameras_alike import shelf_of
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.models import Rig
from grayshelf.library.rig_terms import camera_of, has_cooler
from grayshelf.library.sites import zone_of
from grayshelf.work.run.dark_offers import Cooler, darks_not_now
from grayshelf.work.run.fill_keys import step_of
from grayshelf.work.run.fill_offers import FillOffer, fill_offers
from grayshelf.work.run.reach import OutOfReach
from grayshelf.work.run.ready import Ready, frame_size, ready_lines
from grayshelf.work.run.tonight import pace_of, plan_for

#: A bias where nobody says how short the camera can (common practice).
USUAL_SHORTEST_S = 0.001


@dataclass(frozen=True)
class FillChoice:
    """What the person chose on the page."""

    until: str | None = None
    hours: float | None = None
    battery_wh: float | None = None
    watts: float | None = None
    air_c: float | None = None
    put_on: frozenset[str] = frozenset()
    """Keys of what is shot in any case; of darks also such as nobody offers."""
    left_out: frozenset[str] = frozenset()
    counts: Mapping[str, int] = field(default_factory=dict)
    """Frames of some, by key."""


@dataclass(frozen=True)
class FillLine:
    """A series that could be shot, and whether it is."""

    offer: FillOffer
    frames: int
    """On the sheet; 0: it is not."""
    out_of_reach: bool = False
    """The cooler does not hold its set point."""
    taken_out: bool = False


@dataclass(frozen=True)
class Fill:
    """Everything that the page shows before it starts."""

    now: datetime
    there_is: TimeThereIs
    lines: tuple[FillLine, ...]
    sheet: RunSheet
    steps: tuple[TimedStep, ...]
    ready: tuple[Ready, ...]
    reach: CoolerReach | None
    served: int
    """Lights that have nothing now and would have a dark."""
    space_bytes: int | None
    """That it takes on the disk; None where the size of the frames is not known."""
    shelf: tuple[Holding, ...]
    """Darks that stand there."""
    pace: RigPace
    not_now: tuple[OutOfReach, ...] = ()
    """Darks that are asked for and cannot be shot so, whatever the time."""

    @property
    def end(self) -> datetime:
        """When it is over."""
        return self.steps[-1].end if self.steps else self.now

    @property
    def frames(self) -> int:
        """Frames on the sheet."""
        return sum(line.frames for line in self.lines)


def look_at_fill(library: Library, rig_id: int, devices: RigDevices | None, choice: FillChoice) -> Fill:
    """Choose what helps most in the time, and forecast it.

    Raises
    ------
    GrayShelfError
        Where the time cannot be, or a ladder is none.
    """
    now = library.clock.now()
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        zone = zone_of(library, session, rig)
        there_is = time_there_is(now, zone, choice.until, choice.hours, choice.battery_wh, choice.watts)
        pace, lights = pace_of(rig, devices), light_sets(library, rig)
        camera = camera_for_darks(library, rig, devices)
        reach = _reach(rig, devices, choice.air_c, [s.facts.air_temp_c for s in lights])
        # What was put on by hand and taken off again stays in sight, to be put back.
        by_hand = sorted(choice.put_on | choice.left_out)
        rungs = [step for key in by_hand if (step := step_of(key))]
        cooler = Cooler(camera.cools, night_of_utc(now, zone))
        offers = fill_offers(library, rig, pace, rungs, camera.shortest_s, cooler)
        lines = _choose(
            [_as_chosen(o, choice) for o in offers],
            choice,
            reach,
            max(there_is.seconds_from(now) - pace.gate_s, 0.0),
            Cooling(camera.sensor_c, pace.cooling_s_per_c, pace.settle_s),
        )
        series = [replace(line.offer.series, n_frames=line.frames) for line in lines if line.frames]
        sheet = plan_for(session, rig, (), series, pace, devices)
        size = frame_size(devices, lights)
        return Fill(
            now,
            there_is,
            tuple(lines),
            sheet,
            tuple(timed(sheet.steps, now)),
            tuple(ready_lines(library, rig, sheet, devices, "", size)),
            reach,
            sum(u.lights for line in lines if line.frames for u in line.offer.users if u.there is None),
            None if size is None else bytes_needed(sheet.steps, *size),
            tuple(h for h in shelf_of(library, rig).holdings if h.kind is FrameKind.DARK),
            pace,
            tuple(darks_not_now(library, rig, cooler)),
        )


@dataclass(frozen=True)
class DarkCamera:
    """What a sheet of darks has to know of a camera."""

    cools: bool
    sensor_c: float | None
    """Where a cooled sensor is now; None where that is not known."""
    shortest_s: float


def camera_for_darks(library: Library, rig: Rig, devices: RigDevices | None) -> DarkCamera:
    """What is known of a rig's camera, from its devices, its card, or its frames."""
    card = camera_of(rig)
    if devices is None:
        shortest_s = USUAL_SHORTEST_S if card.shortest_s is None else card.shortest_s
        return DarkCamera(has_cooler(library, rig), None, shortest_s)
    facts = devices.camera.facts
    sensor = devices.camera.cooler().sensor_c if facts.cooled else None
    return DarkCamera(facts.cooled, sensor, facts.shortest_s if card.shortest_s is None else card.shortest_s)


def _reach(
    rig: Rig, devices: RigDevices | None, air_c: float | None, airs: Sequence[float | None]
) -> CoolerReach | None:
    """The cooler in tonight's air: as it was typed, else as at the newest lights."""
    known = [air for air in airs if air is not None]
    air = air_c if air_c is not None else known[-1] if known else None
    cooler = devices.camera.cooler() if devices is not None else None
    return reach_of(
        air,
        camera_of(rig).below_air_c,
        None if cooler is None else cooler.sensor_c,
        None if cooler is None else cooler.power_percent,
    )


def _as_chosen(offer: FillOffer, choice: FillChoice) -> FillOffer:
    """With the count that the person gave it, and put on the sheet where they did."""
    fillable = offer.fillable
    count = choice.counts.get(fillable.key)
    if count is not None:
        usual = max((c.worth for c in fillable.counts), default=0.0)
        fillable = replace(fillable, counts=(Count(count, usual),))
    if fillable.key in choice.put_on:
        fillable = replace(fillable, asked=True)
    return replace(offer, fillable=fillable)


def _choose(
    offers: Sequence[FillOffer],
    choice: FillChoice,
    reach: CoolerReach | None,
    budget_s: float,
    cooling: Cooling,
) -> list[FillLine]:
    def held(one: Fillable) -> bool:
        return one.temp_c is None or reach is None or reach.can_hold(one.temp_c)

    possible = [o.fillable for o in offers if held(o.fillable) and o.fillable.key not in choice.left_out]
    chosen = {c.fillable.key: c.count.frames for c in fill(possible, budget_s, cooling).chosen}
    return [
        FillLine(
            offer,
            chosen.get(offer.fillable.key, 0),
            out_of_reach=not held(offer.fillable),
            taken_out=offer.fillable.key in choice.left_out,
        )
        for offer in offers
    ]
