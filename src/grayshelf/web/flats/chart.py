"""The search of one row, drawn: its shots, the line through them, the answer; and the tables to take away."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.channels import channel_share, starves
from grayshelf.core.flats.model import Found, Shoot, TestShot
from grayshelf.core.flats.panel.response import fit_response
from grayshelf.core.flats.search.light import LightModel, fit_light, is_full
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.matching import rulers
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import sheet_rows
from grayshelf.library.library import Library
from grayshelf.library.models import Job, RunShot, RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import SearchOutcome, SearchParams, ShotStats
from grayshelf.web.common import in_words
from grayshelf.web.flats.rows import banding, key_out, search_or_trouble, setting_text
from grayshelf.web.flats.schemas import ChartShot, FlatChartOut
from grayshelf.work.flats.conditions import RowConditions, as_test_shot
from grayshelf.work.flats.finding import SHOT_STEPS
from grayshelf.work.flats.starter import key_of
from grayshelf.work.job_states import StepState
from grayshelf.work.jobs import ALIVE

#: Brightness values of a drawn curve.
CURVE_STEPS = 60


def chart_page(library: Library, rig_id: int, devices: RigDevices | None, key: RowKey) -> FlatChartOut:
    """The newest search of a row: its shots, the line through them, and the answer."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        step = _newest_step(session, rig_id, key)
        shots = _shots_of(session, step)
        white = read(ShotStats, shots[0].stats).white if shots else None
        row = RowConditions(library, session, rig, devices, key, white)
        job = session.get(Job, step.job_id) if step is not None else None
        return _chart(row, step, shots, job is not None and job.state in ALIVE)


def _newest_step(session: Session, rig_id: int, key: RowKey) -> RunStep | None:
    steps = session.scalars(
        select(RunStep)
        .join(Job, Job.id == RunStep.job_id)
        .where(Job.rig_id == rig_id, Job.kind == "flats", RunStep.kind.in_(SHOT_STEPS))
        .where(RunStep.filter_code == key.filter_code)
        .order_by(RunStep.job_id.desc(), RunStep.seq.desc(), RunStep.id.desc())
        .limit(80)
    )
    own = [s for s in steps if s.kind in ("find", "look") and key_of(s) == key]
    begun = [s for s in own if s.state not in (StepState.TO_DO, StepState.SKIPPED)]
    return begun[0] if begun else None


def _shots_of(session: Session, step: RunStep | None) -> list[RunShot]:
    """The shots of a step, with those of the look before it behind the same stack."""
    if step is None:
        return []
    steps = session.scalars(select(RunStep).where(RunStep.job_id == step.job_id)).all()
    asked = read(SearchParams, step.params)
    searches = ((s.id, read(SearchParams, s.params)) for s in steps if s.kind in SHOT_STEPS)
    own = [number for number, p in searches if (p.key, p.stack) == (asked.key, asked.stack)]
    return list(session.scalars(select(RunShot).where(RunShot.step_id.in_(own)).order_by(RunShot.id)))


@dataclass(frozen=True)
class _Axis:
    """What levels are drawn against: the exposure, or the brightness; and what stays."""

    by_brightness: bool
    at_s: float
    at_b: int | None
    low: float
    high: float
    low_reason: str
    high_reason: str
    permitted: str

    @property
    def fixed(self) -> str:
        """What all levels on it have in common."""
        if self.by_brightness:
            return f"levels at {in_words.seconds(self.at_s)}"
        return "" if self.at_b is None else f"at brightness {self.at_b}"


def _axis(row: RowConditions, mode: str, at_s: float, at_b: int | None) -> _Axis:
    dimmer = row.source.dimmer
    if mode == "brightness" and dimmer is not None:
        reasons, span = ("dark or unsteady", "the panel's highest"), (dimmer.lowest, dimmer.highest)
        return _Axis(
            True, at_s, at_b, float(span[0]), float(span[1]), *reasons, f"brightness {span[0]} to {span[1]}"
        )
    low, high = row.window.shortest, row.window.longest
    permitted = f"permitted, {in_words.plain(low.exposure_s)} to {in_words.seconds(high.exposure_s)}"
    return _Axis(False, at_s, at_b, low.exposure_s, high.exposure_s, low.reason, high.reason, permitted)


def _chart(row: RowConditions, step: RunStep | None, shots: Sequence[RunShot], alive: bool) -> FlatChartOut:
    outcome = SearchOutcome() if step is None else read(SearchOutcome, step.outcome)
    asked = SearchParams(row.key) if step is None else read(SearchParams, step.params)
    found, mode = outcome.found, asked.mode or row.wishes.mode
    tests = [as_test_shot(s) for s in shots]
    last_b = tests[-1].brightness if tests else None
    at_b = found.brightness if found is not None else last_b
    axis = _axis(row, mode, asked.exposure_s or row.wishes.preferred_s, at_b)
    light = _light(row, mode, tests)
    line, text = _line(row, light, tests, axis.by_brightness, axis.at_s, axis.at_b)
    title, under = _title(row, outcome, step, len(tests), alive)
    drawn = FlatChartOut(
        key=key_out(row.key),
        title=title,
        under=under,
        axis="brightness" if axis.by_brightness else "time of light" if row.source.timed else "exposure",
        fixed=axis.fixed,
        target=row.target.level_adu,
        tolerance=row.target.tolerance_adu,
        white=row.target.white_adu,
        low=axis.low,
        high=axis.high,
        low_reason=axis.low_reason,
        high_reason=axis.high_reason,
        permitted=axis.permitted,
        shots=[
            _chart_shot(i, shot, test, row, light, axis.by_brightness, axis.at_s, axis.at_b)
            for i, (shot, test) in enumerate(zip(shots, tests, strict=True), start=1)
        ],
        line=line,
        line_text=text,
        answer_x=None,
        answer_y=None,
        answer_text="",
        kept="",
        next=_coming(outcome.next) if outcome.next is not None and alive else "",
    )
    return drawn if found is None else _with_answer(drawn, found, shots, axis.by_brightness)


def _with_answer(
    drawn: FlatChartOut, found: Found, shots: Sequence[RunShot], by_brightness: bool
) -> FlatChartOut:
    """The drawing with the setting that was found, against the target of then."""
    return drawn.model_copy(
        update={
            "under": drawn.under + _weakest(shots, found.pedestal_adu, found.expected_adu),
            "target": found.target_adu,
            "answer_x": float(found.brightness or 0) if by_brightness else found.exposure_s,
            "answer_y": found.expected_adu,
            "answer_text": _answer_text(found, by_brightness),
            "kept": _kept(found, found.target_adu),
        }
    )


def _light(row: RowConditions, mode: str, tests: Sequence[TestShot]) -> LightModel | None:
    """The light through the shots; None where there are none, or none can be read."""
    dimmer = row.source.dimmer
    response = fit_response([], dimmer) if dimmer is not None and mode != "time" else None
    return fit_light(tests, row.target, row.pedestal, response) if tests else None


def _answer_text(found: Found, by_brightness: bool) -> str:
    return str(found.brightness) if by_brightness else in_words.seconds(found.exposure_s)


def _kept(found: Found, target: float) -> str:
    off = found.expected_adu - target
    return f"{'+' if off > 0 else ''}{in_words.number(off)}{in_words.THIN}ADU"


def _coming(coming: Shoot) -> str:
    at = "" if coming.brightness is None else f" at {coming.brightness}"
    return f"Next {in_words.seconds(coming.exposure_s)}{at}: {coming.why}."


def _title(
    row: RowConditions, outcome: SearchOutcome, step: RunStep | None, n_shots: int, alive: bool
) -> tuple[str, str]:
    setting, found, no = row.setting, outcome.found, outcome.no_answer
    if found is not None:
        at = f" at {row.source.name} {found.brightness}" if found.brightness is not None else ""
        sure = 100.0 * found.uncertainty_adu / found.expected_adu
        under = f"{_where(row)}, {in_words.several(n_shots, 'test shot')}, sure to {max(sure, 0.1):.1f} %"
        if found.banding_percent is not None:
            under += f", {banding(found.banding_percent)}"
        of_light = " of light" if row.source.timed else ""
        return f"{in_words.seconds(found.exposure_s)}{of_light}{at}", under
    if no is not None:
        least = "at least " if no.at_least else ""
        if no.direction in ("too bright", "too dim"):
            return f"{least}{no.stops:.1f} stops {no.direction}".capitalize(), _where(row)
        return "No answer", _where(row)
    if alive and step is not None:
        return "Looking", _where(row)
    if setting is not None:
        return (
            f"{setting_text(setting)}",
            f"{_where(row)}, found {in_words.day(setting.found_at.date())}; its shots are not kept",
        )
    return "Never looked for", _where(row)


def _weakest(shots: Sequence[RunShot], pedestal_adu: float, expected_adu: float) -> str:
    """What the channel with the least light of a colour sensor gets at the setting; '' where there is but one."""
    every = (read(ShotStats, s.stats) for s in shots)
    told = [s for s in every if s.weakest_median and s.saturated_fraction < 0.01]
    if not told:
        return ""
    near = min(told, key=lambda s: abs(s.median - expected_adu))
    share = channel_share(near.weakest_median or 0.0, near.median, pedestal_adu)
    level = pedestal_adu + share * (expected_adu - pedestal_adu)
    return f", weakest channel {in_words.number(level)}{in_words.THIN}ADU" + (
        ": it starves" if starves(share) else ""
    )


def _where(row: RowConditions) -> str:
    """Gain and binning; of a camera that has neither to set, the filter."""
    gain = row.says.to_set("gain", row.key.gain)
    told = [] if gain is None else [f"{row.gain_word} {gain:g}"]
    told += [f"binning {row.key.binning}"] if row.key.binning != 1 else []
    return ", ".join(told) or row.key.filter_code


def _chart_shot(
    number: int,
    shot: RunShot,
    test: TestShot,
    row: RowConditions,
    light: LightModel | None,
    by_brightness: bool,
    at_s: float,
    at_b: int | None,
) -> ChartShot:
    base = light.pedestal_adu if light else (row.pedestal.adu if row.pedestal else 0.0)
    full = is_full(test, row.target.white_adu)
    y = test.level_adu
    if by_brightness:
        y = min(base + (test.level_adu - base) * at_s / test.exposure_s, row.target.white_adu)
    at = "" if test.brightness is None else f" at {test.brightness}"
    level = "full" if full else f"{in_words.number(test.level_adu)}{in_words.THIN}ADU"
    return ChartShot(
        number=number,
        x=float(test.brightness or 0) if by_brightness else test.exposure_s,
        y=y,
        text=f"{in_words.seconds(test.exposure_s)}{at}, {level}",
        probe=read(ShotStats, shot.stats).probe,
        full=full,
        other=not by_brightness and test.brightness != at_b,
        why=shot.why,
        ruler=in_words.ruler_out(
            rulers.band("level", row.target.level_adu, test.level_adu, row.target.tolerance_adu, "ADU")
        ),
    )


def _line(
    row: RowConditions,
    light: LightModel | None,
    tests: Sequence[TestShot],
    by_brightness: bool,
    at_s: float,
    at_b: int | None,
) -> tuple[list[list[float]], str]:
    if light is None:
        return [], ""
    white = row.target.white_adu
    if not by_brightness:
        rate = light.rate(at_b)
        end = (white - light.pedestal_adu) / rate
        points = [[0.0, light.level(0.0, at_b)], [end, white]]
        return (
            points,
            f"{in_words.number(light.pedestal_adu)} ADU + {in_words.number(rate, 0 if rate > 100 else 1)} ADU each second",
        )
    dimmer = row.source.dimmer
    assert dimmer is not None
    seen = sorted({t.brightness for t in tests if t.brightness is not None})
    first, last = (seen[0], seen[-1]) if len(seen) > 1 else (dimmer.lowest, dimmer.highest)
    steps = sorted({round(first + (last - first) * i / CURVE_STEPS) for i in range(CURVE_STEPS + 1)})
    points = [[float(b), light.level(at_s, b)] for b in steps]
    return [p for p in points if p[1] <= white], "as the shots say"


def as_table(library: Library, rig_id: int) -> tuple[list[Sequence[object]], str]:
    """The sheet to take away."""
    head = [
        "filter", "gain", "offset", "binning", "target_adu", "tolerance_adu", "shortest_s", "longest_s", "mode",
        "light", "diffusers", "flats", "dark_flats", "brightness", "exposure_s", "expected_adu", "found_at", "shots",
        "banding_percent", "stale",
    ]  # fmt: skip
    rows: list[Sequence[object]] = [head]
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        for row in sheet_rows(library, session, rig):
            search = search_or_trouble(library, session, rig, None, row)
            target = None if isinstance(search, GrayShelfError) else search.target
            s, k, wish = row.setting, row.key, row.wishes
            rows.append(
                [
                    k.filter_code,
                    k.gain,
                    k.offset,
                    k.binning,
                    round(target.level_adu) if target else None,
                    round(target.tolerance_adu) if target else None,
                    wish.shortest_s,
                    wish.longest_s,
                    wish.mode,
                    s.source if s else wish.source,
                    " + ".join(s.diffusers if s else wish.diffusers),
                    wish.n_flats,
                    wish.n_dark_flats,
                    s.brightness if s else None,
                    s.exposure_s if s else None,
                    round(s.expected_adu) if s else None,
                    s.found_at if s else None,
                    s.shots if s else None,
                    s.banding_percent if s else None,
                    row.stale,
                ]
            )
        name = f"flat-settings-{rig.name.replace(' ', '-').lower()}"
    return rows, name


def shots_table(library: Library, rig_id: int, key: RowKey) -> tuple[list[Sequence[object]], str]:
    """The test shots of a row's newest search."""
    rows: list[Sequence[object]] = [
        [
            "shot",
            "taken_at",
            "exposure_s",
            "brightness",
            "median_adu",
            "brightest_0.1_percent_adu",
            "saturated",
            "why",
        ]
    ]
    with library.db.session() as session:
        for i, shot in enumerate(_shots_of(session, _newest_step(session, rig_id, key)), start=1):
            s = read(ShotStats, shot.stats)
            rows.append(
                [
                    i,
                    shot.taken_at,
                    shot.exposure_s,
                    shot.brightness,
                    s.median,
                    s.brightest_permille,
                    s.saturated_fraction,
                    shot.why,
                ]
            )
    return rows, f"test-flats-{key.filter_code}-gain-{key.gain:g}-binning-{key.binning}"
