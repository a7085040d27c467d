"""Tonight: the run sheet that closes the gaps, what it costs, and whether the rig is ready for it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from enum import Enum

from sqlalchemy.orm import Session

from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.masters.noise import flats_cost_percent
from grayshelf.core.planning.flats_go import FlatsGo, begins_at
from grayshelf.core.planning.forecast import TimedStep, timed
from grayshelf.core.planning.reminders import with_reminders
from grayshelf.core.planning.runsheet import plan_sheet
from grayshelf.core.planning.sheet import DarkSeries, FlatSeries, RigPace, RunSheet, StepKind
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import source_of
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, electrons_per_adu, light_sets
from grayshelf.library.models import Rig
from grayshelf.library.reminders import reminders_of
from grayshelf.library.rig_terms import camera_of, has_cooler, house_rules_of, traits_at, wishes_of
from grayshelf.library.shelf_levels import sky_electrons
from grayshelf.library.sites import zone_of
from grayshelf.work.by_rig import faces_light
from grayshelf.work.flats.conditions import camera_size
from grayshelf.work.run.choice import AS_USUAL, SheetChoice, frame_choices
from grayshelf.work.run.cooling import cooling_seen
from grayshelf.work.run.covered import Covered, covered_by_shelf
from grayshelf.work.run.dark_offers import Cooler, DarkOffer, dark_offers
from grayshelf.work.run.flat_offers import RowOffer, flat_offers, go_of
from grayshelf.work.run.reach import OutOfReach
from grayshelf.work.run.ready import Ready, frame_size, last_run, ready_lines


@dataclass(frozen=True)
class Choice:
    """So many frames each, what that adds to the noise, and when the hands are free."""

    frames: int
    cost_percent: float | None
    done_at: datetime
    chosen: bool


class CostUntold(Enum):
    """Why nobody knows what a number of flats adds to the noise."""

    GAIN = "gain"
    """No gain of the camera was measured, and no header tells it."""
    SKY = "sky"
    """The lights' pedestal is not known, and so not how bright their sky is."""


@dataclass(frozen=True)
class Tonight:
    """Everything that the page Tonight shows before a run."""

    now: datetime
    offers: tuple[RowOffer, ...]
    darks: tuple[DarkOffer, ...]
    sheet: RunSheet
    steps: tuple[TimedStep, ...]
    choices: tuple[Choice, ...]
    cost_untold: CostUntold | None
    """Why none of the choices has a cost; None where they have one."""
    ready: tuple[Ready, ...]
    covered: tuple[Covered, ...]
    out_of_reach: tuple[OutOfReach, ...] = ()
    go: FlatsGo = FlatsGo.AT_THE_END
    begins: datetime | None = None
    """When the sheet is begun, where that is not now."""


def pace_of(rig: Rig, devices: RigDevices | None) -> RigPace:
    """How fast the rig is beside exposing; its cooler by what the newest runs showed."""
    card = camera_of(rig)
    usual = RigPace(pause_s=card.pause_s or 0.0, drop_first=card.drop_first or 0)
    if devices is None:
        return usual
    seen = cooling_seen(rig)
    return replace(
        usual,
        cooling_s_per_c=usual.cooling_s_per_c if seen is None else seen,
        download_s=devices.camera.facts.download_s,
        wheel_s=4.0 if devices.wheel else 60.0,
        focus_s=3.0 if devices.focuser else 0.0,
    )


def _choices(
    library: Library,
    session: Session,
    rig: Rig,
    sheet: RunSheet,
    offers: Sequence[RowOffer],
    now: datetime,
    wishes: SheetChoice,
    pace: RigPace,
    devices: RigDevices | None,
) -> list[Choice]:
    """What other counts would cost and when they would be done."""
    on = [o for o in offers if o.on_sheet]
    white = camera_size(library, rig, devices)[2]
    target = wishes_of(rig).target(white).level_adu
    worst: list[tuple[float, float, int, float]] = []
    for offer in on:
        lights = _most_of(offer)
        if lights is None:
            continue
        sky = sky_electrons(session, library, lights)
        gain = electrons_per_adu(library, lights)
        if sky is not None and gain is not None:
            noise = traits_at(library, rig, offer.wish.gain).read_noise_e
            worst.append((sky, target * gain, sum(s.row.n_kept for s in offer.lights), noise))
    choices: list[Choice] = []
    if not on:
        # Darks alone: there is no number of flats to choose.
        return choices
    rules = house_rules_of(rig)
    chosen = wishes.frames or rules.n_flats
    for frames in frame_choices(rules.n_flats):
        rows = [replace(o.wish, n_flats=frames, n_dark_flats=frames) for o in on]
        steps = timed(plan_for(session, rig, rows, (), pace, devices).steps, now)
        cost = max(
            (flats_cost_percent(sky, signal, frames, n, noise) for sky, signal, n, noise in worst),
            default=None,
        )
        choices.append(Choice(frames, cost, hands_free_at(steps) or now, frames == chosen))
    return choices


def _most_of(offer: RowOffer) -> LightSet | None:
    """The largest set of lights that flats are for; None where there are none."""
    return max(offer.lights, key=lambda s: s.row.n_kept, default=None)


def _cost_untold(
    library: Library, offers: Sequence[RowOffer], choices: Sequence[Choice]
) -> CostUntold | None:
    if not choices or any(c.cost_percent is not None for c in choices):
        return None
    of_lights = [lights for o in offers if o.on_sheet and (lights := _most_of(o))]
    if not of_lights:
        return None
    gains = [electrons_per_adu(library, lights) for lights in of_lights]
    return CostUntold.GAIN if None in gains else CostUntold.SKY


def plan_for(
    session: Session,
    rig: Rig,
    rows: Sequence[FlatSeries],
    darks: Sequence[DarkSeries],
    pace: RigPace,
    devices: RigDevices | None,
) -> RunSheet:
    """The sheet of these series, for what the rig does by itself and what it asks a hand for."""
    cover = devices.cover if devices is not None else None
    sheet = plan_sheet(
        rows,
        darks,
        pace,
        panel_by_hand=devices is None or not faces_light(rig, devices),
        cover=cover is not None,
        dimmable=devices is not None and devices.panel is not None,
        moves_focus=devices is not None and devices.focuser is not None,
        moves_angle=devices is not None and devices.rotator is not None,
        moves_filter=(devices is not None and devices.wheel is not None) or len(rig.filters) == 1,
        sensor_temp_c=devices.camera.cooler().sensor_c if devices else None,
        current_position=devices.wheel.position() if devices and devices.wheel else None,
        light=source_of(session, rig, wishes_of(rig), None).kind,
    )
    return with_reminders(sheet, reminders_of(session, rig.id))


def look_at_tonight(
    library: Library, rig_id: int, devices: RigDevices | None, wishes: SheetChoice = AS_USUAL
) -> Tonight:
    """Make the sheet, count its cost, and check the rig."""
    now = library.clock.now()
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        offers, no_flats = flat_offers(library, session, rig, now, wishes)
        cools = has_cooler(library, rig) if devices is None else devices.camera.facts.cooled
        tonight = night_of_utc(now, zone_of(library, session, rig))
        darks, no_darks = dark_offers(library, session, rig, wishes, Cooler(cools, tonight))
        pace = pace_of(rig, devices)
        sheet = plan_for(
            session,
            rig,
            [o.wish for o in offers if o.on_sheet],
            [d.wish for d in darks if d.on_sheet],
            pace,
            devices,
        )
        every = light_sets(library, rig)
        sets = [s for s in every if s.row.night == tonight]
        go = go_of(rig, wishes)
        begins = begins_at(go, now, zone_of(library, session, rig)) if sheet.rows else now
        message, size = last_run(session, rig.id), frame_size(devices, every)
        choices = _choices(library, session, rig, sheet, offers, begins, wishes, pace, devices)
        return Tonight(
            now=now,
            offers=tuple(offers),
            darks=tuple(darks),
            sheet=sheet,
            steps=tuple(timed(sheet.steps, begins)),
            choices=tuple(choices),
            cost_untold=_cost_untold(library, offers, choices),
            ready=tuple(ready_lines(library, rig, sheet, devices, message, size)),
            covered=tuple(covered_by_shelf(library, rig, sets)),
            out_of_reach=(*no_flats, *no_darks),
            go=go,
            begins=begins if begins > now else None,
        )


def hands_free_at(steps: Sequence[TimedStep]) -> datetime | None:
    """When nobody is needed any more: after the last step with a person in it, or the last frame that flats need."""
    last = [
        t.end for t in steps if t.step.needs_person or t.step.kind in (StepKind.FLATS, StepKind.DARK_FLATS)
    ]
    return last[-1] if last else (steps[-1].end if steps else None)
