"""Tonight: the run sheet that closes the gaps, what it costs, and whether the rig is ready for it."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.panel.diffusers import listed, stops_of
from grayshelf.core.flats.settings import RowKey, wishes_from
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.frames.sets import nominal_exposure
from grayshelf.core.masters.noise import flats_cost_percent
from grayshelf.core.matching import rulers
from grayshelf.core.matching.judge import Terms, judge_flat
from grayshelf.core.matching.model import (
    Candidate,
    CommonSettings,
    Holding,
    RigSays,
    Ruler,
    Tolerances,
    Verdict,
)
from grayshelf.core.planning.runsheet import (
    DarkSeries,
    FlatSeries,
    RigPace,
    RunSheet,
    StepKind,
    TimedStep,
    bytes_needed,
    plan_sheet,
    timed,
)
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import kept_rows, newest_setting, source_of, stale_reason
from grayshelf.library.gaps import Gap, gaps
from grayshelf.library.kept import kept as kept_answers
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, electrons_per_adu, light_sets, light_terms
from grayshelf.library.measurements import checked_offsets
from grayshelf.library.models import Job, Rig
from grayshelf.library.rig_terms import (
    TermsByGain,
    gain_word,
    offset_warning,
    says_of,
    tolerances_of,
    traits_at,
    wishes_of,
)
from grayshelf.library.sky_levels import sky_electrons
from grayshelf.library.slips import slips
from grayshelf.work.job_states import JobState

FRAME_CHOICES = (10, 15, 25, 50, 100)
DEFAULT_FRAMES = 25
DEFAULT_DARKS = 30


@dataclass(frozen=True)
class RowOffer:
    """Flats that could be on tonight's sheet."""

    key: str
    wish: FlatSeries
    lights: tuple[LightSet, ...]
    hole: bool
    """Nothing fits now; False: something fits with care and would be renewed."""
    on_sheet: bool
    would: Candidate
    """What flats shot now would do for these lights."""
    note: str


@dataclass(frozen=True)
class DarkOffer:
    """A dark that could be on tonight's sheet."""

    key: str
    wish: DarkSeries
    lights: tuple[LightSet, ...]
    hole: bool
    on_sheet: bool
    note: str = ""
    """What is there, and why it does not do."""


@dataclass(frozen=True)
class OutOfReach:
    """Lights that wait for something that cannot be shot now, and why."""

    kind: FrameKind
    title: str
    lights: int
    why: str


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
    out_of_reach: tuple[OutOfReach, ...] = ()


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


#: Before anything was done to any train.
LONG_AGO = datetime(1970, 1, 1, tzinfo=UTC)


@kept_answers(8192)
def _flat_of_tonight(
    want: CommonSettings, terms: Terms, tonight: date, since: datetime, frames: int
) -> Candidate:
    """What flats shot now would do for lights that wait: the same rules that will judge them afterwards.

    It is the same all night, until something is done to the train: `since` is when that was last.
    """
    fresh = replace(want, night=tonight, taken=since)
    return judge_flat(want, Holding("tonight", FrameKind.FLAT, fresh, frames), terms)


@kept_answers(8)
def _flats_of_tonight(
    library: Library, revision: int, rig_id: int, tonight: date, since: datetime, frames: int
) -> dict[tuple[object, ...], Candidate]:
    """The same for every gap, by its key."""
    with library.db.own_session() as session:
        terms_at = TermsByGain(library, library.rig(session, rig_id))
        return {
            gap.key: _flat_of_tonight(
                gap.want, light_terms(library, gap.sets[-1], terms_at(gap.want.gain)), tonight, since, frames
            )
            for gap in gaps(library, rig_id, with_care=True)
            if gap.kind is FrameKind.FLAT
        }


def _offers(
    library: Library,
    session: Session,
    rig: Rig,
    now: datetime,
    wishes: Wishes,
    out_of_reach: list[OutOfReach],
) -> list[RowOffer]:
    """Rows of flats that could be shot now and would serve lights that wait; what could not is told in the list."""
    tolerances, says = tolerances_of(rig), says_of(rig)
    tonight = night_of_utc(now, library.zone(session))
    by_code, kept = {f.code: f for f in rig.filters}, kept_rows(session, rig)
    rows: dict[str, RowOffer] = {}
    ordered = sorted(
        gaps(library, rig.id, with_care=True),
        key=lambda g: (g.want.night is None, g.want.night),
        reverse=True,
    )
    since = max((event.at for event in rig.events if event.at <= now), default=LONG_AGO)
    fresh = _flats_of_tonight(library, library.revision, rig.id, tonight, since, wishes.frames)
    for gap in ordered:
        want = gap.want
        if gap.kind is not FrameKind.FLAT:
            continue
        unknown = _not_settable(want, says, ("gain", "offset"))
        if unknown:
            if not gap.care_only:
                why = f"their {listed(unknown)} is not known, so no flats can be set up for them"
                out_of_reach.append(_out_of_reach(gap, why))
            continue
        want = replace(
            want, filter_code=want.filter_code or NO_FILTER, gain=want.gain or 0.0, offset=want.offset or 0.0
        )
        assert want.filter_code is not None and want.gain is not None and want.offset is not None
        would = fresh[gap.key]
        if would.verdict is Verdict.NOTHING and not gap.care_only:
            out_of_reach.append(_out_of_reach(gap, "; ".join(would.reasons)))
        if would.verdict is Verdict.NOTHING or (would.verdict is Verdict.CARE and gap.care_only):
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
        wish = FlatSeries(
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
    # A hole is filled also where the very same settings cannot be told from others, since no header tells them.
    only_doubts = offer.hole and all(r.inside or r.unknown for r in offer.would.rulers)
    return offer.key in wishes.add or offer.would.verdict is Verdict.FITS or only_doubts


#: What a rig without filters is set to.
NO_FILTER = "none"


def _not_settable(want: CommonSettings, says: RigSays, quantities: Sequence[str]) -> list[str]:
    """Which settings of lights nobody knows, so that frames for them cannot be shot; fixed ones need not be set."""
    values = {
        "gain": want.gain,
        "offset": want.offset,
        "exposure": want.exposure_s,
        "temperature": want.sensor_temp_c,
    }
    return [q for q in quantities if values[q] is None and q not in says.fixed]


def _out_of_reach(gap: Gap, why: str) -> OutOfReach:
    want = gap.want
    parts = [gap.kind.value.capitalize()]
    if gap.kind is FrameKind.FLAT:
        parts.append(want.filter_code or "")
    elif want.exposure_s is not None:
        parts.append(f"{nominal_exposure(want.exposure_s):g} s")
    if gap.kind is FrameKind.DARK and want.sensor_temp_c is not None:
        parts.append(f"at {want.sensor_temp_c:.0f} °C".replace("-", "−"))
    return OutOfReach(gap.kind, " ".join(p for p in parts if p), gap.lights, why)


def _dark_offers(
    library: Library, rig: Rig, wishes: Wishes, has_cooler: bool, out_of_reach: list[OutOfReach]
) -> list[DarkOffer]:
    """Darks, and dark flats for flats that are there, that could be shot now; what could not is told in the list."""
    found: dict[str, DarkOffer] = {}
    for gap in gaps(library, rig.id, with_care=True):
        if gap.kind is FrameKind.DARK_FLAT:
            offer = _dark_flat_offer(gap, wishes)
        elif gap.kind is FrameKind.DARK and not gap.care_only:
            offer = _dark_offer(gap, rig, wishes, has_cooler, out_of_reach)
        else:
            continue
        if offer is not None:
            found.setdefault(offer.key, offer)
    return list(found.values())


def _dark_offer(
    gap: Gap, rig: Rig, wishes: Wishes, has_cooler: bool, out_of_reach: list[OutOfReach]
) -> DarkOffer | None:
    want, says = gap.want, says_of(rig)
    unknown = _not_settable(want, says, ("exposure", "gain", "offset", "temperature"))
    if unknown:
        out_of_reach.append(_out_of_reach(gap, f"the lights’ {listed(unknown)} is not known"))
        return None
    of_lights = gap.sets[-1].want
    if not of_lights.held and not has_cooler:
        warm = "" if want.sensor_temp_c is None else f" about {want.sensor_temp_c:.0f} °C".replace("-", "−")
        out_of_reach.append(
            _out_of_reach(
                gap,
                f"this sensor is as warm as the night: darks for them can be shot when it is{warm or ' as it was'} again, "
                "best right after the lights",
            )
        )
        return None
    assert want.exposure_s is not None
    temp = want.sensor_temp_c
    degrees = "" if temp is None else f":{temp:.0f}C"
    key = f"dark:{want.exposure_s:g}s{degrees}:g{want.gain or 0:g}:o{want.offset or 0:g}:b{_binning(want)}"
    wish = DarkSeries(
        want.exposure_s,
        temp,
        want.gain or 0.0,
        want.offset or 0.0,
        _binning(want),
        DEFAULT_DARKS,
        gap.lights,
        gap.targets,
    )
    return DarkOffer(key, wish, gap.sets, True, key in wishes.add)


def _dark_flat_offer(gap: Gap, wishes: Wishes) -> DarkOffer | None:
    """Dark flats for flats that were shot before: asked for until they are there, or a bias is said to do."""
    want = gap.want
    if want.exposure_s is None or want.exposures_differ:
        return None
    key = f"dark flat:{want.exposure_s:g}s:g{want.gain or 0:g}:o{want.offset or 0:g}:b{_binning(want)}"
    wish = DarkSeries(
        want.exposure_s,
        None,
        want.gain or 0.0,
        want.offset or 0.0,
        _binning(want),
        wishes.frames,
        gap.lights,
        gap.targets,
        FrameKind.DARK_FLAT,
        (want.filter_code,) if want.filter_code else (),
    )
    on = key in wishes.add or (not gap.care_only and key not in wishes.leave_out)
    return DarkOffer(key, wish, gap.sets, not gap.care_only, on, gap.nearest)


def _binning(want: CommonSettings) -> int:
    return want.binning[0] if want.binning else 1


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
    choices: list[Choice] = []
    if not on:
        # Darks alone: there is no number of flats to choose.
        return choices
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
    rig: Rig,
    rows: Sequence[FlatSeries],
    darks: Sequence[DarkSeries],
    pace: RigPace,
    devices: RigDevices | None,
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
    query = select(Job.message).where(Job.kind == "run", Job.rig_id == rig_id, Job.state == JobState.DONE)
    return session.scalar(query.order_by(Job.id.desc()).limit(1)) or ""


def _ready(
    library: Library,
    rig: Rig,
    sheet: RunSheet,
    devices: RigDevices | None,
    last_run: str,
    size: tuple[int, int] | None,
) -> list[Ready]:
    """What to know before the start, in one line each."""
    lines = [_room(library, sheet, size)]
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
    words = " and ".join(f"{o:g} at {gain_word(library, rig.camera)} {g:g}" for g, o in unsure)
    said = "does not hold" if all(g in known for g, _ in unsure) else "was never checked"
    return [Ready("offset", f"{words} {said}", good=False)]


def _room(library: Library, sheet: RunSheet, size: tuple[int, int] | None) -> Ready:
    """Destination and free space in one line."""
    free = shutil.disk_usage(library.root).free
    place = library.root / "frames"
    if size is None:
        return Ready("destination", f"{_size(free)} free, in {place}", good=True)
    need = bytes_needed(sheet.steps, *size)
    text = f"needs {_size(need)}, {_size(free)} free, in {place}"
    return Ready("destination", text, good=free > 1.5 * need, stops=free < need)


def _frame_size(devices: RigDevices | None, lights: Sequence[LightSet]) -> tuple[int, int] | None:
    """Width and height of the rig's frames: as the camera says, else as its newest lights are."""
    if devices is not None:
        return devices.camera.facts.width, devices.camera.facts.height
    return (lights[-1].facts.width, lights[-1].facts.height) if lights else None


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
                    f"Dark {exposure:g} s, {gain_word(library, rig.camera)} {have.gain:g}"
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
        out_of_reach: list[OutOfReach] = []
        offers = _offers(library, session, rig, now, wishes, out_of_reach)
        cooler = devices.camera.cooler() if devices is not None else None
        has_cooler = cooler is not None and cooler.set_point_c is not None
        darks = _dark_offers(library, rig, wishes, has_cooler, out_of_reach)
        pace = pace_of(devices)
        sheet = _plan(
            rig, [o.wish for o in offers if o.on_sheet], [d.wish for d in darks if d.on_sheet], pace, devices
        )
        tonight = night_of_utc(now, library.zone(session))
        every = light_sets(library, rig)
        sets = [s for s in every if s.row.night == tonight]
        last_run, size = _last_run(session, rig.id), _frame_size(devices, every)
        return Tonight(
            now=now,
            offers=tuple(offers),
            darks=tuple(darks),
            sheet=sheet,
            steps=tuple(timed(sheet.steps, now)),
            choices=tuple(_choices(library, session, rig, sheet, offers, now, wishes, pace, devices)),
            ready=tuple(_ready(library, rig, sheet, devices, last_run, size)),
            covered=tuple(_covered(library, rig, sets)),
            out_of_reach=tuple(out_of_reach),
        )


def hands_free_at(steps: Sequence[TimedStep]) -> datetime | None:
    """When nobody is needed any more: after the last step with a person in it, or the last frame that flats need."""
    last = [
        t.end for t in steps if t.step.needs_person or t.step.kind in (StepKind.FLATS, StepKind.DARK_FLATS)
    ]
    return last[-1] if last else (steps[-1].end if steps else None)
