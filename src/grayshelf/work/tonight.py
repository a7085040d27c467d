"""Tonight: the run sheet that closes the gaps, what it costs, and whether the rig is ready for it."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.diffusers import stops_of
from grayshelf.core.flats.settings import RowKey, wishes_from
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.frames.sets import nominal_exposure
from grayshelf.core.masters.noise import flats_cost_percent
from grayshelf.core.matching import rulers
from grayshelf.core.matching.match import judge_flat
from grayshelf.core.matching.model import CommonSettings, Holding, Ruler, Tolerances, Verdict
from grayshelf.core.planning.runsheet import (
    DarkWish,
    FlatWish,
    RigPace,
    RunSheet,
    TimedStep,
    bytes_needed,
    plan_sheet,
    timed,
)
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import kept_rows, newest_setting, source_of, stale_reason
from grayshelf.library.levels import electrons_per_adu, sky_electrons
from grayshelf.library.library import Library
from grayshelf.library.measurements import checked_offsets
from grayshelf.library.models import Job, Rig
from grayshelf.library.shelf import (
    LightSet,
    events_of,
    gaps,
    light_sets,
    offset_warning,
    slips,
    tolerances_of,
    traits_at,
    wishes_of,
)

FRAME_CHOICES = (10, 15, 25, 50, 100)
DEFAULT_FRAMES = 25
DEFAULT_DARKS = 30


@dataclass(frozen=True)
class RowOffer:
    """Flats that could be on tonight's sheet."""

    key: str
    wish: FlatWish
    lights: tuple[LightSet, ...]
    hole: bool
    """Nothing fits now; False: something fits with care and would be renewed."""
    on_sheet: bool
    would: Verdict
    """What flats shot now would do for these lights."""
    note: str


@dataclass(frozen=True)
class DarkOffer:
    """A dark that could be on tonight's sheet."""

    key: str
    wish: DarkWish
    lights: tuple[LightSet, ...]
    on_sheet: bool


@dataclass(frozen=True)
class Choice:
    """So many frames each, what that adds to the noise, and when the hands are free."""

    frames: int
    cost_percent: float | None
    done_at: datetime
    chosen: bool


@dataclass(frozen=True)
class Ready:
    """One line of what to know before the start."""

    what: str
    text: str
    good: bool
    stops: bool = False
    """Whether the run cannot start like this."""
    ruler: Ruler | None = None


@dataclass(frozen=True)
class Wishes:
    """What the person chose on the page."""

    frames: int = DEFAULT_FRAMES
    leave_out: frozenset[str] = frozenset()
    add: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Tonight:
    """Everything that the page Tonight shows before a run."""

    now: datetime
    offers: tuple[RowOffer, ...]
    darks: tuple[DarkOffer, ...]
    sheet: RunSheet
    steps: tuple[TimedStep, ...]
    choices: tuple[Choice, ...]
    ready: tuple[Ready, ...]
    covered: tuple[Covered, ...]


@dataclass(frozen=True)
class Covered:
    """Lights of tonight that the shelf serves already."""

    kind: FrameKind
    holding_id: int
    title: str
    lights: int
    verdict: Verdict
    ruler: Ruler | None


def pace_of(devices: RigDevices | None) -> RigPace:
    """How fast the rig is beside exposing."""
    if devices is None:
        return RigPace()
    return RigPace(
        download_s=devices.camera.facts.download_s,
        wheel_s=4.0 if devices.wheel else 60.0,
        focus_s=3.0 if devices.focuser else 0.0,
    )


def flat_gap_key(filter_code: str, gain: float, offset: float, binning: int, angle: float | None) -> str:
    """The name of a row of flats, the same from one look to the next."""
    turned = "" if angle is None else f"@{round(angle) % 360}"
    return f"flat:{filter_code}:g{gain:g}:o{offset:g}:b{binning}{turned}"


def _offers(library: Library, session: Session, rig: Rig, now: datetime, wishes: Wishes) -> list[RowOffer]:
    """Rows of flats that could be shot now and would serve lights that wait."""
    tolerances, events = tolerances_of(rig), events_of(rig)
    tonight = night_of_utc(now, library.zone(session))
    by_code, kept = {f.code: f for f in rig.filters}, kept_rows(session, rig)
    rows: dict[str, RowOffer] = {}
    ordered = sorted(
        gaps(library, rig.id, with_care=True),
        key=lambda g: (g.want.night is None, g.want.night),
        reverse=True,
    )
    for gap in ordered:
        want = gap.want
        if (
            gap.kind is not FrameKind.FLAT
            or want.filter_code is None
            or want.gain is None
            or want.offset is None
        ):
            continue
        # What flats shot now would do for these lights: the same rules that will judge them afterwards.
        shot_now = replace(want, night=tonight, taken=now)
        would = judge_flat(
            want,
            Holding("tonight", FrameKind.FLAT, shot_now, wishes.frames),
            tolerances,
            traits_at(library, rig, want.gain),
            events,
        ).verdict
        if would is Verdict.NOTHING or (would is Verdict.CARE and gap.care_only):
            continue
        binning = want.binning[0] if want.binning else 1
        key = _row_key(rows, want, binning, tolerances)
        known = rows.get(key)
        if known is not None:
            merged = replace(
                known,
                lights=known.lights + gap.sets,
                hole=known.hole or not gap.care_only,
                wish=replace(
                    known.wish, lights=known.wish.lights + gap.lights, hole=known.hole or not gap.care_only
                ),
            )
            rows[key] = replace(merged, on_sheet=_on_sheet(merged, wishes))
            continue
        in_wheel = by_code.get(want.filter_code)
        row_key = RowKey(want.filter_code, want.gain, want.offset, binning)
        own = kept[row_key].wishes if row_key in kept else {}
        setting = newest_setting(session, rig.id, row_key)
        if setting is not None and stale_reason(setting, rig.events):
            setting = None
        brightness = in_wheel.brightness if in_wheel else None
        stack: list[str] = []
        if setting is not None:
            brightness, stack = setting.brightness, list(setting.diffusers)
        elif own.get("brightness") is not None:
            brightness = int(own["brightness"])
        source = source_of(session, rig, wishes_from(rig.wishes, own), None)
        wish = FlatWish(
            filter_code=want.filter_code,
            gain=want.gain,
            offset=want.offset,
            binning=binning,
            n_flats=int(own.get("n_flats", wishes.frames)),
            n_dark_flats=int(own.get("n_dark_flats", wishes.frames)),
            lights=gap.lights,
            focus=want.focus,
            angle_deg=want.angle.deg if want.angle and want.angle.of == "mechanical" else None,
            brightness=brightness,
            prior_exposure_s=setting.exposure_s if setting else None,
            stack=tuple(stack),
            stack_stops=stops_of(stack, source.diffusers),
            wheel_position=in_wheel.position if in_wheel else 0,
            targets=gap.targets,
            hole=not gap.care_only,
        )
        note = gap.nearest if not gap.care_only else f"what is there fits with care: {gap.nearest}"
        offer = RowOffer(key, wish, gap.sets, not gap.care_only, False, would, note)
        rows[key] = replace(offer, on_sheet=_on_sheet(offer, wishes))
    return list(rows.values())


def _row_key(rows: dict[str, RowOffer], want: CommonSettings, binning: int, tolerances: Tolerances) -> str:
    """The key of a row already on the list that would serve these lights too, else a new one."""
    assert want.filter_code is not None and want.gain is not None and want.offset is not None
    for key, offer in rows.items():
        wish = offer.wish
        same = (wish.filter_code, wish.gain, wish.offset, wish.binning) == (
            want.filter_code,
            want.gain,
            want.offset,
            binning,
        )
        first = offer.lights[0].want
        near = rulers.angle(first, want, tolerances.flat_angle_deg)
        focus = rulers.band("focus", first.focus, want.focus, tolerances.flat_focus_steps, "steps")
        if same and (near.inside or near.unknown) and (focus.inside or focus.unknown):
            return key
    angle = want.angle.deg if want.angle else None
    return flat_gap_key(want.filter_code, want.gain, want.offset, binning, angle)


def _on_sheet(offer: RowOffer, wishes: Wishes) -> bool:
    if offer.key in wishes.leave_out:
        return False
    return offer.key in wishes.add or offer.would is Verdict.FITS


def _dark_offers(library: Library, rig: Rig, wishes: Wishes) -> list[DarkOffer]:
    found = []
    for gap in gaps(library, rig.id):
        want = gap.want
        if gap.kind is not FrameKind.DARK or None in (
            want.exposure_s,
            want.sensor_temp_c,
            want.gain,
            want.offset,
        ):
            continue
        assert want.exposure_s is not None and want.sensor_temp_c is not None
        assert want.gain is not None and want.offset is not None
        key = f"dark:{want.exposure_s:g}s:{want.sensor_temp_c:.0f}C:g{want.gain:g}:o{want.offset:g}"
        wish = DarkWish(
            want.exposure_s,
            want.sensor_temp_c,
            want.gain,
            want.offset,
            want.binning[0] if want.binning else 1,
            DEFAULT_DARKS,
            gap.lights,
            gap.targets,
        )
        found.append(DarkOffer(key, wish, gap.sets, key in wishes.add))
    return found


def _choices(
    library: Library,
    session: Session,
    rig: Rig,
    sheet: RunSheet,
    offers: Sequence[RowOffer],
    now: datetime,
    wishes: Wishes,
    pace: RigPace,
    devices: RigDevices | None,
) -> list[Choice]:
    """What other counts would cost and when they would be done."""
    on = [o for o in offers if o.on_sheet]
    white = devices.camera.facts.white_adu if devices else 65535
    target = wishes_of(rig).target(white).level_adu
    worst: list[tuple[float, float, int, float]] = []
    for offer in on:
        lights = max(offer.lights, key=lambda s: s.row.n_kept)
        sky = sky_electrons(session, library, lights)
        gain = electrons_per_adu(library, lights)
        if sky is not None and gain is not None:
            noise = traits_at(library, rig, offer.wish.gain).read_noise_e
            worst.append((sky, target * gain, sum(s.row.n_kept for s in offer.lights), noise))
    choices = []
    for frames in FRAME_CHOICES:
        rows = [replace(o.wish, n_flats=frames, n_dark_flats=frames) for o in on]
        steps = timed(_plan(rig, rows, (), pace, devices).steps, now)
        cost = max(
            (flats_cost_percent(sky, signal, frames, n, noise) for sky, signal, n, noise in worst),
            default=None,
        )
        choices.append(Choice(frames, cost, hands_free_at(steps) or now, frames == wishes.frames))
    return choices


def _plan(
    rig: Rig, rows: Sequence[FlatWish], darks: Sequence[DarkWish], pace: RigPace, devices: RigDevices | None
) -> RunSheet:
    return plan_sheet(
        rows,
        darks,
        pace,
        panel_by_hand=True,
        cover=False,
        dimmable=devices is not None and devices.panel is not None,
        moves_focus=devices is not None and devices.focuser is not None,
        moves_angle=devices is not None and devices.rotator is not None,
        moves_filter=(devices is not None and devices.wheel is not None) or len(rig.filters) == 1,
        sensor_temp_c=devices.camera.cooler().sensor_c if devices else None,
        current_position=devices.wheel.position() if devices and devices.wheel else None,
    )


def _last_run(session: Session, rig_id: int) -> str:
    """What the rig's last run that went to its end shot and built."""
    query = select(Job.message).where(Job.kind == "run", Job.rig_id == rig_id, Job.state == "done")
    return session.scalar(query.order_by(Job.id.desc()).limit(1)) or ""


def _ready(
    library: Library, rig: Rig, sheet: RunSheet, devices: RigDevices | None, last_run: str
) -> list[Ready]:
    """What to know before the start, in one line each."""
    lines = [_room(library, sheet, devices)]
    if devices is None:
        lines.append(
            Ready(
                "devices",
                "none are connected to this rig: the sheet is for your own hands",
                good=False,
                stops=True,
            )
        )
        return lines
    absent = [
        name
        for name, device in (
            ("filter wheel", devices.wheel),
            ("panel control", devices.panel),
            ("focuser", devices.focuser),
            ("rotator", devices.rotator),
        )
        if device is None
    ]
    present = f"{devices.camera.facts.name} and its rig answer"
    lines.append(Ready("devices", f"{present}; no {', no '.join(absent)}" if absent else present, good=True))
    cooler = devices.camera.cooler()
    if cooler.set_point_c is not None:
        want = CommonSettings(None, 1, 1, sensor_temp_c=cooler.set_point_c)
        have = CommonSettings(None, 1, 1, sensor_temp_c=cooler.sensor_c)
        ruler = rulers.temperature(want, have, 0.5)
        text = f"set to {cooler.set_point_c:.0f} °C, at {cooler.power_percent:.0f} % power".replace("-", "−")
        lines.append(Ready("cooler", text, good=ruler.inside, ruler=ruler))
    wheel = devices.wheel
    if wheel is not None:
        unknown = sorted({r.filter_code for r in sheet.rows} - set(wheel.filters))
        if unknown:
            text = f"{', '.join(unknown)} is not in the wheel; put it in or leave its flats out"
            lines.append(Ready("filters", text, good=False, stops=True))
    lines += _unchecked(library, rig, sheet)
    if last_run:
        lines.append(Ready("last run", last_run, good=True))
    return lines


def _unchecked(library: Library, rig: Rig, sheet: RunSheet) -> list[Ready]:
    """Offsets of tonight's lights that were never checked at their gain, or do not hold there."""
    pairs = sorted({(row.gain, row.offset) for row in sheet.rows})
    unsure = [(g, o) for g, o in pairs if offset_warning(library, rig.camera, g, o)]
    if not unsure:
        return []
    known = checked_offsets(library, rig.camera)
    words = " and ".join(f"{o:g} at gain {g:g}" for g, o in unsure)
    said = "does not hold" if all(g in known for g, _ in unsure) else "was never checked"
    return [Ready("offset", f"{words} {said}", good=False)]


def _room(library: Library, sheet: RunSheet, devices: RigDevices | None) -> Ready:
    """Destination and free space in one line."""
    width, height = (devices.camera.facts.width, devices.camera.facts.height) if devices else (6000, 4000)
    need = bytes_needed(sheet.steps, width, height)
    free = shutil.disk_usage(library.root).free
    text = f"needs {_size(need)}, {_size(free)} free, in {library.root / 'frames'}"
    return Ready("destination", text, good=free > 1.5 * need, stops=free < need)


def _size(count: float) -> str:
    return f"{count / 1e9:.1f} GB" if count >= 1e9 else f"{count / 1e6:.0f} MB"


def _covered(library: Library, rig: Rig, lights: Sequence[LightSet]) -> list[Covered]:
    """What the shelf holds already for tonight's lights."""
    ids = {s.row.id for s in lights}
    found: dict[tuple[FrameKind, str], Covered] = {}
    for light_set, slip in slips(library, rig.id):
        if light_set.row.id not in ids:
            continue
        for line in slip.lines:
            if line.chosen is None or line.verdict is not Verdict.FITS or line.kind is FrameKind.DARK_FLAT:
                continue
            have = line.chosen.holding.settings
            quantity = "temperature" if line.kind is FrameKind.DARK else "angle"
            ruler = next((r for r in line.chosen.rulers if r.quantity == quantity), None)
            title = line.kind.value.capitalize()
            if line.kind is FrameKind.DARK:
                exposure = nominal_exposure(have.exposure_s or 0)
                title = (
                    f"Dark {exposure:g} s, gain {have.gain:g}"
                    if have.gain is not None
                    else f"Dark {exposure:g} s"
                )
            elif have.filter_code:
                title = f"Flat {have.filter_code}"
            key = (line.kind, line.chosen.holding.key)
            before = found.get(key)
            count = light_set.row.n_kept + (before.lights if before else 0)
            found[key] = Covered(line.kind, int(line.chosen.holding.key), title, count, line.verdict, ruler)
    return sorted(found.values(), key=lambda c: (c.kind.value, -c.lights))


def look_at_tonight(
    library: Library, rig_id: int, devices: RigDevices | None, wishes: Wishes = Wishes()
) -> Tonight:
    """Make the sheet, count its cost, and check the rig."""
    now = library.clock.now()
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        offers = _offers(library, session, rig, now, wishes)
        darks = _dark_offers(library, rig, wishes)
        pace = pace_of(devices)
        sheet = _plan(
            rig, [o.wish for o in offers if o.on_sheet], [d.wish for d in darks if d.on_sheet], pace, devices
        )
        tonight = night_of_utc(now, library.zone(session))
        sets = [s for s in light_sets(session, rig) if s.row.night == tonight]
        return Tonight(
            now=now,
            offers=tuple(offers),
            darks=tuple(darks),
            sheet=sheet,
            steps=tuple(timed(sheet.steps, now)),
            choices=tuple(_choices(library, session, rig, sheet, offers, now, wishes, pace, devices)),
            ready=tuple(_ready(library, rig, sheet, devices, _last_run(session, rig.id))),
            covered=tuple(_covered(library, rig, sets)),
        )


def hands_free_at(steps: Sequence[TimedStep]) -> datetime | None:
    """When the last step that flats need has ended: the rig may come down, or stay up for darks."""
    last = [t.end for t in steps if t.step.kind.value in ("dark flats", "flats")]
    return last[-1] if last else (steps[-1].end if steps else None)
