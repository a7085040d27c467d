"""The sheet of a rig's flat settings: what each row wishes, what was found for it, and whether that still holds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import Conflict, GrayShelfError
from grayshelf.core.flats.drift import Drift
from grayshelf.core.flats.filter_words import named
from grayshelf.core.flats.model import Dimmer, FlatTarget, Pedestal
from grayshelf.core.flats.panel.diffusers import Diffuser
from grayshelf.core.flats.search.dial import Pulse
from grayshelf.core.flats.settings import INSTEAD_OF, FlatWishes, RowKey
from grayshelf.core.flats.timed_light import TimedLight
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.matching.model import CommonSettings
from grayshelf.core.planning.gates import LightKind
from grayshelf.core.sensor.statistics import UNSHIFTED_BELOW_ADU
from grayshelf.library.attached import light_range
from grayshelf.library.camera_values import measured_gain
from grayshelf.library.flat_drift import drift_of
from grayshelf.library.flat_settings import newest_of, settings_by_row, stale_reason
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.models import FlatRow, FlatSetting, LightSource, Rig
from grayshelf.library.rig_terms import flat_wishes, says_of
from grayshelf.library.shelf_levels import pedestal_level

#: A light is not lit for less where nobody says (common practice).
USUAL_SHORTEST_LIT_S = 0.01


@dataclass(frozen=True)
class SheetRow:
    """One row of the sheet."""

    key: RowKey
    wishes: FlatWishes
    own: dict[str, Any]
    lights: int
    added: bool
    history: list[FlatSetting]
    """Everything found for it, newest first."""
    setting: FlatSetting | None
    """The one that counts."""
    stale: str
    drift: Drift | None


@dataclass(frozen=True)
class Source:
    """A light, in the words of the search."""

    id: int | None
    name: str
    dimmer: Dimmer | None
    pulse: Pulse | None
    diffusers: tuple[Diffuser, ...]
    timed: TimedLight | None = None
    """Where it is lit for a set time within the exposure."""
    kind: LightKind = LightKind.PANEL


def source_from(row: LightSource) -> Source:
    """A light as it is kept."""
    dimmer = None
    if row.dimmable and row.highest is not None:
        dimmer = Dimmer(max(row.lowest or 1, 1), row.highest)
    pulse = Pulse(row.pulse_hz, row.duty or 0.5) if row.pulse_hz else None
    diffusers = tuple(Diffuser(d["name"], float(d["stops"])) for d in row.diffusers)
    timed = timed_from({name: getattr(row, name) for name in ("before_s", "after_s", "shortest_lit_s")})
    return Source(row.id, row.name, dimmer, pulse, diffusers, timed, LightKind(row.kind))


def timed_from(values: Mapping[str, Any]) -> TimedLight | None:
    """How a light is lit within the exposure; None where it stays on.

    Raises
    ------
    GrayShelfError
        Where no light can be lit so.
    """
    before_s, after_s = values.get("before_s"), values.get("after_s")
    if before_s is None and after_s is None:
        return None
    return TimedLight(before_s or 0.0, after_s or 0.0, values.get("shortest_lit_s") or USUAL_SHORTEST_LIT_S)


def sources(session: Session) -> list[LightSource]:
    """All lights, by name."""
    return list(session.scalars(select(LightSource).order_by(LightSource.name)))


def source_of(session: Session, rig: Rig, wishes: FlatWishes, panel_range: tuple[int, int] | None) -> Source:
    """The light of a row: its own, else the rig's, else what the rig's panel says of itself."""
    if wishes.source:
        row = session.scalar(select(LightSource).where(LightSource.name == wishes.source))
        if row is not None:
            return source_from(row)
    if rig.source_id is not None:
        return source_from(session.get_one(LightSource, rig.source_id))
    span = panel_range or light_range(rig)
    dimmer = Dimmer(*span) if span else None
    return Source(None, "the light", dimmer, None, ())


def keep_source(session: Session, rig: Rig, values: Mapping[str, Any]) -> LightSource:
    """Enter a light, or change the one of this name, and make it the rig's."""
    name = str(values["name"]).strip()
    lowest, highest = values.get("lowest"), values.get("highest")
    hz, duty = values.get("pulse_hz"), values.get("duty")
    names = [str(d["name"]).strip() for d in values["diffusers"]]
    _check_source(name, values, names)
    row = session.scalar(select(LightSource).where(LightSource.name == name))
    if row is None:
        row = LightSource(name=name)
        session.add(row)
    row.dimmable = bool(values["dimmable"])
    row.lowest, row.highest = (lowest, highest) if row.dimmable else (None, None)
    row.pulse_hz, row.duty = hz, (duty or 0.5) if hz else None
    timed = timed_from(values)
    row.before_s, row.after_s = (timed.before_s, timed.after_s) if timed else (None, None)
    row.shortest_lit_s = timed.shortest_s if timed else None
    row.kind = LightKind(values.get("kind") or LightKind.PANEL)
    row.diffusers = [
        {"name": n, "stops": float(d["stops"])} for n, d in zip(names, values["diffusers"], strict=True)
    ]
    session.flush()
    rig.source_id = row.id
    return row


def _check_source(name: str, values: Mapping[str, Any], diffusers: Sequence[str]) -> None:
    """Refuse a light that cannot be."""
    if not name:
        raise GrayShelfError("The light needs a name.")
    lowest, highest = values.get("lowest"), values.get("highest")
    if values["dimmable"] and (lowest is None or highest is None or not 0 < lowest < highest <= 65_535):
        raise GrayShelfError("Brightness goes from a lowest whole number above 0 to a higher one.")
    hz, duty = values.get("pulse_hz"), values.get("duty")
    if hz is not None and not (1.0 <= hz <= 100_000.0 and 0.01 <= (duty or 0.5) <= 0.99):
        raise GrayShelfError("Pulses lie between 1 and 100,000 Hz, lit for 1 to 99 % of the time.")
    timed_from(values)
    if len(set(diffusers)) < len(diffusers) or not all(diffusers):
        raise GrayShelfError("Each diffuser needs a name of its own.")
    if len(diffusers) > 8 or any(not 0.05 <= float(d["stops"]) <= 12.0 for d in values["diffusers"]):
        raise GrayShelfError("Up to 8 diffusers, of 0.05 to 12 stops each.")


# -- rows -------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class RowLights:
    """The lights that ask for a row."""

    kept: int
    newest: FrameFacts
    """Of the set taken last."""


@kept(8)
def _lights_by_row(library: Library, revision: int, rig_id: int) -> dict[RowKey, RowLights]:
    """Kept until the shelf changes: a page asks anew every second while something goes on. Gain 0 stands for none to set."""
    found: dict[RowKey, RowLights] = {}
    with library.db.own_session() as session:
        rig = library.rig(session, rig_id)
        fixed = says_of(library, rig).fixed
    # Oldest first: the newest stays.
    for lights in light_sets(library, rig):
        want = lights.want
        gain = 0.0 if want.gain is None and "gain" in fixed else want.gain
        if gain is None:
            continue
        # Cameras with an ISO dial have no offset to set, and their headers none to read.
        binning = want.binning[0] if want.binning else 1
        key = RowKey(want.filter_code or "none", gain, want.offset or 0.0, binning)
        before = found[key].kept if key in found else 0
        found[key] = RowLights(before + lights.row.n_kept, lights.facts)
    return found


def lights_by_row(library: Library, rig_id: int) -> dict[RowKey, RowLights]:
    """The rows that a rig's lights ask for."""
    return _lights_by_row(library, library.revision, rig_id)


def kept_rows(session: Session, rig: Rig) -> dict[RowKey, FlatRow]:
    """Rows with wishes of their own, or added, or left out."""
    rows = session.scalars(select(FlatRow).where(FlatRow.rig_id == rig.id))
    return {RowKey(r.filter_code, r.gain, r.offset, r.binning): r for r in rows}


def sheet_rows(library: Library, session: Session, rig: Rig) -> list[SheetRow]:
    """The sheet, in the order of the wheel, then of gain and binning."""
    asked, kept = lights_by_row(library, rig.id), kept_rows(session, rig)
    order = {f.code: f.position for f in rig.filters}
    keys = {k for k in asked if not (k in kept and kept[k].left_out)}
    keys |= {k for k, row in kept.items() if row.added and not row.left_out}
    found = settings_by_row(session, rig.id)
    rows = []
    for key in sorted(keys, key=lambda k: (order.get(k.filter_code, 99), k.filter_code, k.gain, k.binning)):
        own = dict(kept[key].wishes) if key in kept else {}
        wishes = flat_wishes(library, rig, own)
        history = found.get(key, [])
        setting = newest_of(history)
        rows.append(
            SheetRow(
                key,
                wishes,
                own,
                asked[key].kept if key in asked else 0,
                key not in asked,
                history,
                setting,
                stale_reason(setting, rig.events),
                drift_of(session, rig, key, setting),
            )
        )
    return rows


def left_out_keys(session: Session, rig: Rig) -> list[RowKey]:
    """Rows that lights ask for and the person left out."""
    return [k for k, row in kept_rows(session, rig).items() if row.left_out]


def wishes_for(library: Library, session: Session, rig: Rig, key: RowKey) -> FlatWishes:
    """What a row wishes: the rig's wishes with its own over them."""
    row = session.scalar(select(FlatRow).filter_by(rig_id=rig.id, **key.as_json))
    return flat_wishes(library, rig, row.wishes if row else {})


def change_rows(
    library: Library, session: Session, rig: Rig, keys: Sequence[RowKey], changes: Mapping[str, Any]
) -> None:
    """Give rows wishes of their own; a value of None lets go of the row's own and takes the rig's.

    Raises
    ------
    GrayShelfError
        Where what comes out makes no sense; then nothing was changed.
    """
    kept = kept_rows(session, rig)
    for key in dict.fromkeys(keys):
        row = kept.get(key) or _new_row(session, rig, key)
        own = {k: v for k, v in {**row.wishes, **changes}.items() if v is not None}
        if "diffusers" in own:
            own["diffusers"] = list(own["diffusers"])
        for group in INSTEAD_OF:
            given = [n for n in group if changes.get(n) is not None]
            if given:
                own = {k: v for k, v in own.items() if k not in group or k in given}
        flat_wishes(library, rig, own)
        row.wishes = own


def copy_wishes(session: Session, rig: Rig, source: RowKey, keys: Sequence[RowKey]) -> None:
    """Give rows the own wishes of another row."""
    kept = kept_rows(session, rig)
    own = dict(kept[source].wishes) if source in kept else {}
    for key in dict.fromkeys(keys):
        row = kept.get(key) or _new_row(session, rig, key)
        row.wishes = dict(own)


def _new_row(session: Session, rig: Rig, key: RowKey) -> FlatRow:
    row = FlatRow(rig_id=rig.id, **key.as_json, wishes={})
    session.add(row)
    return row


def add_row(library: Library, session: Session, rig: Rig, key: RowKey) -> None:
    """Put a row on the sheet that no light asks for yet, or take one back that was left out."""
    if not key.filter_code.strip() or key.binning not in (1, 2, 3, 4) or key.gain < 0 or key.offset < 0:
        raise GrayShelfError("A row needs a filter, a gain and an offset from 0, and a binning from 1 to 4.")
    row = session.scalar(select(FlatRow).filter_by(rig_id=rig.id, **key.as_json))
    asked = key in lights_by_row(library, rig.id)
    if (row is None and asked) or (row is not None and not row.left_out and (row.added or asked)):
        raise Conflict(
            f"{named(key.filter_code)} at gain {key.gain:g} and binning {key.binning} is on the sheet."
        )
    row = row or _new_row(session, rig, key)
    row.left_out, row.added = False, not asked


def leave_out(session: Session, rig: Rig, keys: Sequence[RowKey]) -> None:
    """Take rows off the sheet; what was found for them is kept."""
    kept = kept_rows(session, rig)
    for key in dict.fromkeys(keys):
        row = kept.get(key) or _new_row(session, rig, key)
        row.left_out = True


# -- for the search ---------------------------------------------------------------------------------------------


def row_pedestal(
    library: Library, camera: str, width: int, height: int, key: RowKey, white_adu: int
) -> Pedestal | None:
    """The pedestal of a row's frames, where bias or short darks tell it. Sizes are those of unbinned frames."""
    want = CommonSettings(
        camera,
        width // key.binning,
        height // key.binning,
        (key.binning, key.binning),
        gain=key.gain,
        offset=key.offset,
        sample_step=1 if white_adu < UNSHIFTED_BELOW_ADU else None,
    )
    return pedestal_level(library, want)


@dataclass(frozen=True)
class Conversion:
    """Electrons in an ADU at a row's gain, and who says so."""

    e_per_adu: float
    measured: bool
    """On the Bench; else it is what the lights' headers say."""


def row_conversion(library: Library, rig: Rig, key: RowKey) -> Conversion | None:
    """What an ADU is worth at a row's gain; None where nothing tells."""
    measured = measured_gain(library, rig.camera, key.gain)
    if measured is not None:
        return Conversion(measured.e_per_adu, True)
    for other, lights in lights_by_row(library, rig.id).items():
        said = lights.newest.electrons_per_adu
        if other.gain == key.gain and said is not None and said > 0:
            return Conversion(said, False)
    return None


def row_target(
    library: Library, rig: Rig, wishes: FlatWishes, key: RowKey, white_adu: float, pedestal: Pedestal | None
) -> FlatTarget:
    """Where a row's flats should lie, under the linear limit that the Bench measured, where it did."""
    measured = measured_gain(library, rig.camera, key.gain)
    base = pedestal.adu if pedestal else 0.0
    # Binned pixels are added up: the limit of one pixel says nothing of their sum.
    limit = measured.linear_limit_adu if measured and key.binning == 1 else None
    conversion = row_conversion(library, rig, key)
    return wishes.target(white_adu, limit, conversion.e_per_adu if conversion else None, base)
