"""The page on which the shelf is filled, in words: the wall of darks as the plan, and what it comes to."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta
from zoneinfo import ZoneInfo

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.frames.sets import nominal_exposure
from grayshelf.core.matching.age import age_in_words, age_step
from grayshelf.core.matching.model import CommonSettings, Holding, RigSays
from grayshelf.core.planning.cooler_reach import COMFORTABLE_PERCENT, CoolerReach
from grayshelf.core.planning.forecast import TimedStep
from grayshelf.core.planning.sheet import series_seconds
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.rig_terms import gain_word, says_of
from grayshelf.library.sites import zone_of
from grayshelf.web.common import in_words
from grayshelf.web.tonight.fill_schemas import CellState, FillCellOut, FillOut, FillRowOut, FillWallOut
from grayshelf.web.tonight.schemas import StepOut
from grayshelf.web.tonight.sheet import out_of_reach, planned_step, ready_out
from grayshelf.work.run.fill_keys import SetUp, key_of
from grayshelf.work.run.fill_offers import FillOffer, settings_in_use
from grayshelf.work.run.filling import Fill, FillLine
from grayshelf.work.run.reach import binning_of, not_settable


def fill_page(library: Library, rig_id: int, fill: Fill, devices: RigDevices | None) -> FillOut:
    """What is shot in the time there is, and what it is good for."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        zone = zone_of(library, session, rig)
        lights = [s.nominal for s in light_sets(library, rig)] or settings_in_use(library, session, rig)
        word, says = gain_word(library, rig.camera), says_of(library, rig)
    walls = _Walls(fill, word, says, night_of_utc(fill.now, zone), lights)
    on = [line for line in fill.lines if line.frames]
    ready = [ready_out(line) for line in fill.ready]
    end, there_is = fill.end, fill.there_is
    waiting = sum(u.lights for line in fill.lines for u in line.offer.users if u.there is None)
    return FillOut(
        rig_id=rig_id,
        clock=in_words.clock(fill.now, zone),
        until=in_words.clock(there_is.end, zone),
        there_is_end=there_is.end,
        set_by=there_is.set_by,
        headline=_headline(fill, on, zone) if lights or fill.lines else NOTHING_ASKED,
        end=in_words.clock(end, zone) if on else None,
        over=_over(fill),
        series=len(on),
        frames=fill.frames,
        takes=in_words.duration(end - fill.now),
        left=in_words.duration(max(there_is.end - end, timedelta(0))),
        space="not known" if fill.space_bytes is None else in_words.size(fill.space_bytes),
        served=fill.served,
        waiting=waiting,
        walls=walls.out(),
        bias=walls.bias(),
        warnings=_warnings(fill),
        air="" if fill.reach is None else in_words.degrees_c(fill.reach.air_c),
        coldest="" if fill.reach is None else in_words.degrees_c(fill.reach.coldest_c),
        not_now=_not_now(fill),
        out_of_reach=out_of_reach(fill.not_now),
        ready=ready,
        steps=[_step(i, t, zone, fill) for i, t in enumerate(fill.steps)],
        start_label=_start_label(on),
        can_start=bool(on) and not any(r.stops for r in ready),
        has_devices=devices is not None,
    )


#: Where neither lights nor a person say how the camera is used.
NOTHING_ASKED = "Nothing is asked for yet: lay a ladder."


def _headline(fill: Fill, on: Sequence[FillLine], zone: ZoneInfo) -> str:
    if not on:
        helps = [x for x in fill.lines if not x.out_of_reach and _worth(x)]
        if not helps and fill.not_now:
            return "What your lights ask for cannot be shot now."
        if not helps:
            return "No dark and no bias is missing, thin or old."
        if any(line.taken_out for line in helps):
            return "Nothing is on the sheet."
        return "Nothing that is missing fits into this time."
    if fill.end > fill.there_is.end:
        until = in_words.clock(fill.there_is.end, zone)
        return f"Over at {until}, before all of it is shot."
    return f"Done at {in_words.clock(fill.end, zone)}, with nobody needed once the cap is on."


def _worth(line: FillLine) -> bool:
    """Whether a series helps anybody: more of what fits already does not."""
    return any(count.worth for count in line.offer.fillable.counts)


def _over(fill: Fill) -> str:
    late = fill.end - fill.there_is.end
    if not fill.steps or late <= timedelta(0):
        return ""
    return (
        f"What you asked for takes {in_words.duration(late)} longer than there is: what comes last is left."
    )


def _start_label(on: Sequence[FillLine]) -> str:
    by_kind = {k: sum(x.frames for x in on if x.offer.series.kind is k) for k in FrameKind}
    parts = [in_words.several(n, kind.value) for kind, n in by_kind.items() if n]
    return f"Shoot {in_words.listed(parts)}" if parts else "Nothing to shoot"


def _warnings(fill: Fill) -> list[str]:
    cold = sorted(
        {
            line.offer.fillable.temp_c
            for line in fill.lines
            if line.out_of_reach and line.offer.fillable.temp_c is not None
        }
    )
    reach = fill.reach
    if reach is None:
        return []
    known = "by its power now" if reach.measured else "by what its sheet says"
    told = []
    if cold:
        words = in_words.listed([in_words.degrees_c(t) for t in cold])
        told.append(
            f"{words} cannot be held in air of {in_words.degrees_c(reach.air_c)} ({known}); the lowest with something to "
            f"spare is {in_words.degrees_c(reach.coldest_c)}, under {COMFORTABLE_PERCENT:.0f} % of its power."
        )
    hard = sorted(
        {
            t
            for line in fill.lines
            if line.frames
            and (t := line.offer.fillable.temp_c) is not None
            and reach.power_percent(t) > COMFORTABLE_PERCENT
        }
    )
    if hard:
        words = in_words.listed(
            [f"{in_words.degrees_c(t)} needs {reach.power_percent(t):.0f} %" for t in hard]
        )
        told.append(f"{words} of the cooler’s power ({known}): should the air get warmer, it may not hold.")
    return told


def _not_now(fill: Fill) -> str:
    """What would help and finds no room in the time."""
    left = [x for x in fill.lines if not (x.frames or x.taken_out or x.out_of_reach) and _worth(x)]
    if not left:
        return ""
    seconds = sum(x.offer.fillable.seconds(x.offer.series.n_frames) for x in left)
    return f"{in_words.several(len(left), 'more series', 'more series')} would help and would take {in_words.duration(seconds)}."


def _step(index: int, timed: TimedStep, zone: ZoneInfo, fill: Fill) -> StepOut:
    dark = timed.step.dark
    lines = [x for x in fill.lines if dark is not None and x.frames and _same(x.offer, dark)]
    return planned_step(
        index, timed, zone, {}, sum(x.offer.lights for x in lines), wanted=any(x.offer.missing for x in lines)
    )


def _same(offer: FillOffer, dark: object) -> bool:
    own = offer.series
    names = ("kind", "exposure_s", "set_temp_c", "gain", "offset", "binning", "read_mode")
    return all(getattr(own, n) == getattr(dark, n) for n in names)


def _helps(line: FillLine) -> str:
    """'serves 17 lights; adds 2.1 % to their noise', 'takes 4 % off the noise of 30 lights'."""
    offer, frames = line.offer, line.frames or line.offer.series.n_frames
    served = sum(u.lights for u in offer.users if u.there is None)
    parts = []
    added, saved = offer.added(frames), offer.saved(frames)
    if served:
        parts.append(f"serves {in_words.several(served, 'light')} that have none")
    if added is not None and served:
        parts.append(f"adds {added:.1f} % to their noise")
    renewed = offer.lights - served
    if renewed and saved is not None:
        own = in_words.several(renewed, "light")
        parts.append(
            f"takes {saved:.1f} % off the noise of {own}" if saved >= 0.05 else f"renews that of {own}"
        )
    return "; ".join(parts)


#: A set point and an exposure.
_Place = tuple[float | None, float]


class _Walls:
    """The darks of a camera as walls, one for each way it is set: what stands there, and what is shot."""

    def __init__(
        self, fill: Fill, word: str, says: RigSays, today: date, lights: Sequence[CommonSettings]
    ) -> None:
        self.fill, self.word, self.says, self.today, self.lights = fill, word, says, today, lights

    def out(self) -> list[FillWallOut]:
        """One for each set-up that lights, or something on the sheet, have."""
        darks = [line for line in self.fill.lines if line.offer.series.kind is FrameKind.DARK]
        used = [
            _set_up(w) for w in reversed(self.lights) if not not_settable(w, self.says, ("gain", "offset"))
        ]
        set_ups = dict.fromkeys([*used, *(line.offer.set_up for line in darks)])
        return [self._wall(s, [x for x in darks if x.offer.set_up == s]) for s in set_ups]

    def _wall(self, set_up: SetUp, lines: Sequence[FillLine]) -> FillWallOut:
        planned: dict[_Place, FillLine] = {
            (_degree(x.offer.series.set_temp_c), x.offer.series.exposure_s): x for x in lines
        }
        standing = self._standing(set_up)
        places = planned.keys() | standing.keys()
        temps = sorted({t for t, _ in places}, key=lambda t: -99.0 if t is None else -t)
        exposures = sorted({s for _, s in places})
        own = sorted({w.exposure_s for w in self.lights if w.exposure_s and _set_up(w) == set_up})

        def row(temp: float | None) -> FillRowOut:
            at = [(temp, s) for s in exposures]
            reach = self.fill.reach
            return FillRowOut(
                temp="as it is" if temp is None else in_words.degrees_c(temp),
                power=_power(reach, temp),
                held=temp is None or reach is None or reach.can_hold(temp),
                cells=[
                    self._cell(set_up, p, planned.get(p), standing.get(p)) if p in places else None
                    for p in at
                ],
            )

        return FillWallOut(
            set_up=_set_up_key(set_up),
            title=self._title(set_up),
            columns=[in_words.seconds(s) for s in exposures],
            rows=[row(t) for t in temps],
            light_exposures=f"{', '.join(f'{s:g}' for s in own)} s" if own else "",
        )

    def _standing(self, set_up: SetUp) -> dict[_Place, Holding]:
        """Darks of a set-up that stand on the shelf; of several at one place, the newest master."""
        there = [h for h in self.fill.shelf if _set_up(h.settings) == set_up and h.settings.exposure_s]
        ordered = sorted(there, key=lambda h: (h.is_master, h.settings.night or date.min))
        return {
            (_degree(h.settings.sensor_temp_c), nominal_exposure(h.settings.exposure_s or 0.0)): h
            for h in ordered
        }

    def _title(self, set_up: SetUp) -> str:
        dials = self.says.dials(self.word, set_up.gain, set_up.offset)
        binned = [f"binning {set_up.binning}"] if set_up.binning > 1 or not dials else []
        return ", ".join([*dials, *binned, *([set_up.read_mode] if set_up.read_mode else [])])

    def _cell(
        self, set_up: SetUp, place: _Place, line: FillLine | None, there: Holding | None
    ) -> FillCellOut:
        temp, exposure = place
        degrees = "" if temp is None else f", {in_words.degrees_c(temp)}"
        title = f"Dark {in_words.seconds(exposure)}{degrees}"
        key = key_of(FrameKind.DARK, set_up, exposure, temp) if line is None else line.offer.fillable.key
        return self._cell_out(key, FrameKind.DARK, title, temp, exposure, line, there)

    def bias(self) -> list[FillCellOut]:
        """What bias is shot."""
        return [
            self._cell_out(
                x.offer.fillable.key,
                FrameKind.BIAS,
                f"Bias, {self._title(x.offer.set_up)}",
                None,
                x.offer.series.exposure_s,
                x,
                x.offer.there,
            )
            for x in self.fill.lines
            if x.offer.series.kind is FrameKind.BIAS
        ]

    def _cell_out(
        self,
        key: str,
        kind: FrameKind,
        title: str,
        temp: float | None,
        exposure: float,
        line: FillLine | None,
        there: Holding | None,
    ) -> FillCellOut:
        frames = line.frames if line is not None else 0
        usual = line.offer.series.n_frames if line is not None else 0
        age = (self.today - there.settings.night).days if there and there.settings.night else 0
        seconds = series_seconds(frames or usual, exposure, self.fill.pace)
        offer = None if line is None else line.offer
        return FillCellOut(
            key=key,
            kind=kind.value,
            title=title,
            temp="" if temp is None else in_words.degrees_c(temp),
            exposure=in_words.seconds(exposure),
            state=_state(line),
            asked=offer is not None and offer.fillable.asked,
            frames=frames,
            usual=usual,
            there=""
            if there is None
            else f"{in_words.frames(there.n_frames, known=there.count_known)}, {age_in_words(age)}",
            there_id=None if there is None else int(there.key),
            age_step=age_step(age),
            lights=0 if offer is None else offer.lights,
            missing=offer is not None and offer.missing,
            why="" if offer is None else offer.why,
            for_whom="" if offer is None else in_words.listed(offer.targets),
            helps="" if line is None else _helps(line),
            takes="" if line is None else in_words.duration(seconds),
        )


def _state(line: FillLine | None) -> CellState:
    serves = line is not None and line.offer.there is not None and not line.frames
    if line is None or serves:
        return "there"
    if line.out_of_reach:
        return "too cold"
    if line.taken_out:
        return "out"
    return "on" if line.frames else "off"


def _set_up(want: CommonSettings) -> SetUp:
    return SetUp(want.gain or 0.0, want.offset or 0.0, binning_of(want), want.read_mode)


def _set_up_key(set_up: SetUp) -> str:
    mode = f":{set_up.read_mode}" if set_up.read_mode else ""
    return f"g{set_up.gain:g}:o{set_up.offset:g}:b{set_up.binning}{mode}"


def _degree(temp: float | None) -> float | None:
    return None if temp is None else float(round(temp))


def _power(reach: CoolerReach | None, temp: float | None) -> str:
    if reach is None or temp is None:
        return ""
    return f"{reach.power_percent(temp):.0f} % of the cooler’s power"
