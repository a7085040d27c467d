"""A row of the sheet of flat settings in words."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy.orm import Session

from grayshelf.core.digits import significant
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.flats.filter_words import NO_FILTER, meant_for
from grayshelf.core.flats.model import FlatTarget
from grayshelf.core.flats.panel.diffusers import listed
from grayshelf.core.flats.settings import FlatWishes, RowKey
from grayshelf.core.matching import rulers
from grayshelf.core.matching.model import RigSays
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_sheet import SheetRow, Source, row_conversion
from grayshelf.library.library import Library
from grayshelf.library.models import FlatSetting, Rig, RunStep
from grayshelf.library.records import read
from grayshelf.library.rig_terms import gain_word, says_of
from grayshelf.library.step_records import NoAnswerKept, SearchOutcome
from grayshelf.web.common import in_words
from grayshelf.web.common.rigs import passbands
from grayshelf.web.flats.schemas import FlatKeyIn, FlatRowOut, FlatWishesOut, NoOut, RowState, SettingFoundOut
from grayshelf.work.flats.conditions import RowConditions, is_colour
from grayshelf.work.flats.starter import key_of
from grayshelf.work.job_states import StepState


def key_in(key: FlatKeyIn) -> RowKey:
    """A row's key from the wire."""
    return RowKey(key.filter_code.strip(), key.gain, key.offset, key.binning)


def key_out(key: RowKey) -> FlatKeyIn:
    """A row's key for the wire."""
    return FlatKeyIn(**key.as_json)


def wishes_out(wishes: FlatWishes) -> FlatWishesOut:
    """What counts, for the editor; of ADU, percent and electrons the one that is given."""
    values = {name: getattr(wishes, name) for name in FlatWishesOut.model_fields}
    values["diffusers"] = list(wishes.diffusers)
    if wishes.level_adu is not None or wishes.level_electrons is not None:
        values["level_percent"] = None
    if wishes.tolerance_adu is not None:
        values["tolerance_percent"] = None
    return FlatWishesOut(**values)


def _last_find(steps: Sequence[RunStep], key: RowKey) -> RunStep | None:
    own = [s for s in steps if s.kind in ("find", "look") and key_of(s) == key]
    begun = [s for s in own if s.state not in (StepState.TO_DO, StepState.SKIPPED)]
    return begun[-1] if begun else (own[0] if own else None)


def row_out(
    library: Library,
    session: Session,
    rig: Rig,
    devices: RigDevices | None,
    row: SheetRow,
    steps: Sequence[RunStep],
    earlier: Sequence[RunStep],
    alive: bool,
    now: datetime,
) -> FlatRowOut:
    """A row in words: what is wished of it, what was found, and how its search stands."""
    search = search_or_trouble(library, session, rig, devices, row)
    step = _last_find(steps, row.key) or _last_find(earlier, row.key)
    wishes, setting, says = row.wishes, row.setting, says_of(library, rig)
    target = None if isinstance(search, GrayShelfError) else search.target
    source = None if isinstance(search, GrayShelfError) else search.source
    none = _newest_no(row, step, target)
    shots_before = setting.shots if setting is not None else 0
    told = FlatRowOut(
        key=key_out(row.key),
        name=_name(row.key, gain_word(library, rig.camera), says),
        gain="" if (gain := says.to_set("gain", row.key.gain)) is None else in_words.plain(gain),
        passband_nm=passbands(rig).get(row.key.filter_code),
        state=_row_state(row, step, steps, none, alive),
        lights=in_words.several(row.lights, "light") if row.lights else "no lights",
        added=row.added,
        target="–",
        target_more=_target_more(library, rig, devices, row.key, search),
        tolerance="–",
        tolerance_more="",
        window=_window_words(search)[0],
        reasons=_window_words(search)[1],
        mode=wishes.mode,
        mode_text=_mode_text(wishes, source),
        source=source.name if source else "",
        diffusers=listed(wishes.diffusers) if wishes.diffusers else "",
        counts=f"{wishes.n_flats} + {wishes.n_dark_flats}",
        brightness="–",
        exposure="–",
        expected="–",
        ruler=None,
        age="",
        shots=step.done if step is not None and alive else shots_before,
        banding="",
        stale=row.stale,
        drift=_drift_words(row, target),
        own=sorted(row.own),
        wishes=wishes_out(wishes),
        no_answer=none,
        history=_history(row),
    )
    return told.model_copy(update=_target_told(target) | _setting_told(row, target, now))


def _target_told(target: FlatTarget | None) -> dict[str, str]:
    """What is looked for, where there is a target."""
    if target is None:
        return {}
    return {
        "target": f"{in_words.number(target.level_adu)}{in_words.THIN}ADU",
        "tolerance": f"±{in_words.number(target.tolerance_adu)}",
        "tolerance_more": f"{100.0 * target.tolerance_adu / target.level_adu:.0f} % of the target",
    }


def _setting_told(row: SheetRow, target: FlatTarget | None, now: datetime) -> dict[str, Any]:
    """What was found, where something was."""
    setting = row.setting
    if setting is None:
        return {}
    level, hung = setting.expected_adu, setting.diffusers
    told: dict[str, Any] = {
        "exposure": in_words.seconds(setting.exposure_s) + (" lit" if setting.dark_s else ""),
        "expected": f"{in_words.number(level)}{in_words.THIN}ADU",
        "age": _age(setting.found_at, now),
        "diffusers": listed(hung) if hung or row.wishes.diffusers else "",
    }
    if setting.brightness is not None:
        told["brightness"] = str(setting.brightness)
    if setting.banding_percent is not None:
        told["banding"] = banding(setting.banding_percent)
    if target is not None:
        band = rulers.band("level", target.level_adu, level, target.tolerance_adu, "ADU")
        told["ruler"] = in_words.ruler_out(band)
    return told


def _newest_no(row: SheetRow, step: RunStep | None, target: FlatTarget | None) -> NoOut | None:
    """What the last search came to, where that was no answer and nothing was found since."""
    if step is None or step.state != StepState.NO_ANSWER:
        return None
    no = read(SearchOutcome, step.outcome).no_answer
    if no is None:
        return None
    if row.setting is not None and step.ended_at is not None and row.setting.found_at >= step.ended_at:
        return None
    return _no(row, no, target.white_adu if target else 65535.0)


def _row_state(
    row: SheetRow, step: RunStep | None, steps: Sequence[RunStep], none: NoOut | None, alive: bool
) -> RowState:
    if alive and step is not None and step.state in (StepState.DOING, StepState.WAITING):
        return "searching"
    if alive and any(
        s.state == StepState.TO_DO and s.kind in ("find", "look") and key_of(s) == row.key for s in steps
    ):
        return "waiting"
    if none is not None:
        return "no answer"
    return "never" if row.setting is None else "found"


def _target_more(
    library: Library,
    rig: Rig,
    devices: RigDevices | None,
    key: RowKey,
    search: RowConditions | GrayShelfError,
) -> str:
    """'45 % of the range, 22,100 e⁻; median', or what is in the way of a target."""
    if isinstance(search, GrayShelfError):
        return search.message
    target, conversion, electrons = search.target, row_conversion(library, rig, key), ""
    if conversion is not None:
        base = search.pedestal.adu if search.pedestal else 0.0
        who = "" if conversion.measured else " by the headers"
        electrons = (
            f", {in_words.number((target.level_adu - base) * conversion.e_per_adu)}{in_words.THIN}e⁻{who}"
        )
    brightest = " of the brightest channel" if is_colour(library, rig, devices) else ""
    return f"{100.0 * target.level_adu / target.white_adu:.0f} % of the range{electrons}; median{brightest}"


def _window_words(search: RowConditions | GrayShelfError) -> tuple[str, str]:
    """The window of exposures, and what bounds it."""
    if isinstance(search, GrayShelfError) or search.window is None:
        return "–", ""
    shortest, longest = search.window.shortest, search.window.longest
    return (
        f"{in_words.plain(shortest.exposure_s)} to {in_words.seconds(longest.exposure_s)}",
        f"shorter: {shortest.reason}; longer: {longest.reason}",
    )


def _drift_words(row: SheetRow, target: FlatTarget | None) -> str:
    if row.drift is None or target is None or abs(row.drift.off_adu) <= target.tolerance_adu:
        return ""
    sign = "+" if row.drift.off_adu > 0 else ""
    return f"flats of {row.drift.when} came out {sign}{in_words.number(row.drift.off_adu)} ADU off"


def banding(percent: float) -> str:
    """How deep the bands of a pulsed source are, in words."""
    said = "under 0.05" if percent < 0.05 else significant(percent, 2)
    return f"bands {said} %"


def _name(key: RowKey, word: str, says: RigSays) -> str:
    binned = [f"binning {key.binning}"] if key.binning != 1 else []
    return ", ".join([key.filter_code, *says.dials(word, key.gain, key.offset), *binned])


def _mode_text(wishes: FlatWishes, source: Source | None) -> str:
    if source is not None and source.dimmer is None:
        return "time"
    if wishes.mode == "brightness":
        return f"brightness at {in_words.seconds(wishes.preferred_s)}"
    if wishes.mode == "both":
        return f"both, near {in_words.seconds(wishes.preferred_s)}"
    return "time" if wishes.brightness is None else f"time at {wishes.brightness}"


def _age(found_at: datetime, now: datetime) -> str:
    span = now - found_at
    if span < timedelta(hours=20):
        return "today" if span > timedelta(minutes=5) else "just now"
    return (
        in_words.several(max(span.days, 1), "day")
        if span.days < 60
        else in_words.several(round(span.days / 30.4), "month")
    )


def _history(row: SheetRow) -> list[SettingFoundOut]:
    outs = []
    for found in row.history[:8]:
        outs.append(
            SettingFoundOut(
                id=found.id,
                text=setting_text(found),
                expected=f"{in_words.number(found.expected_adu)}{in_words.THIN}ADU",
                when=in_words.day(found.found_at.date()),
                shots=in_words.several(found.shots, "shot"),
                diffusers=listed(found.diffusers) if found.diffusers else "",
                taken_back=found.taken_back,
                counts=row.setting is not None and row.setting.id == found.id,
            )
        )
    return outs


def setting_text(found: FlatSetting) -> str:
    """'5.0 s at 60'."""
    at = "" if found.brightness is None else f" at {found.brightness}"
    return f"{in_words.seconds(found.exposure_s)}{_lit_in(found)}{at}"


def _lit_in(found: FlatSetting) -> str:
    """' of light in 1.9 s', where it is lit within the exposure."""
    if not found.dark_s:
        return ""
    return f" of light in {in_words.seconds(found.exposure_s + found.dark_s)}"


def search_or_trouble(
    library: Library, session: Session, rig: Rig, devices: RigDevices | None, row: SheetRow
) -> RowConditions | GrayShelfError:
    """What a row's search works with, or why it cannot be said."""
    try:
        return RowConditions(library, session, rig, devices, row.key, row=row)
    except GrayShelfError as error:
        return error


def _what_would_help(filter_code: str, no: NoAnswerKept) -> tuple[str, FlatWishesOut | None]:
    """What a button offers to permit, and what it changes of the wishes."""
    if no.direction == "too coarse":
        return "Let time and brightness both be found", FlatWishesOut(mode="both")
    if no.widened is None:
        return "", None
    why = "allowed for this filter"
    changes = (
        FlatWishesOut(shortest_s=no.widened, shortest_reason=why)
        if no.direction == "too bright"
        else FlatWishesOut(longest_s=no.widened, longest_reason=why)
    )
    return f"Allow {in_words.seconds(no.widened)}{meant_for(filter_code)}", changes


def _no(row: SheetRow, no: NoAnswerKept, white: float) -> NoOut:
    allow, changes = _what_would_help(row.key.filter_code, no)
    code = row.key.filter_code
    bare = code == NO_FILTER
    titles = {
        "too bright": f"{'The light' if bare else code} cannot get dim enough",
        "too dim": f"{'The sensor' if bare else code} does not get enough light",
        "too coarse": f"The steps of the panel are too coarse{meant_for(code)}",
        "unsteady": f"The light{meant_for(code)} is not steady",
    }
    level = no.level_adu
    beyond = level is not None and level > white
    return NoOut(
        title=titles[no.direction],
        message=no.message + (f" The camera is full at {in_words.number(white)} ADU." if beyond else ""),
        advice=no.advice,
        stack=no.sentence,
        stops=no.stops,
        at_least=no.at_least,
        direction=no.direction,
        level=level,
        level_text="" if level is None else f"{in_words.number(level)}{in_words.THIN}ADU",
        allow=allow,
        allow_changes=changes,
        retry="Try again" if bare else f"Try {code} again",
    )
