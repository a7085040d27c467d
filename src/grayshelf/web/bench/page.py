"""The Bench: what can be measured, of which gains, and what counts with the camera."""

from __future__ import annotations

from collections.abc import Sequence
from typing import cast

from sqlalchemy.orm import Session

from grayshelf.core.sensor.gain_words import ONE_GAIN, gain_named, gains_named
from grayshelf.devices.ports import RigDevices
from grayshelf.library.camera_values import accepted
from grayshelf.library.flat_sheet import source_of
from grayshelf.library.library import Library
from grayshelf.library.measurements import measurements_of
from grayshelf.library.models import CameraValue, Measurement, Rig
from grayshelf.library.rig_terms import (
    camera_of,
    flat_wishes,
    has_one_gain,
    offset_warning,
    says_of,
    word_where_measured,
)
from grayshelf.web.bench.schemas import (
    AcceptedOut,
    BenchItem,
    BenchOut,
    DiskOfferOut,
    FilterOffer,
    GainOffer,
    Kind,
    NoneToSetOut,
)
from grayshelf.web.common import in_words
from grayshelf.work.bench import gain_job as measure_gain
from grayshelf.work.bench import offset as measure_offset
from grayshelf.work.bench.disk_offers import DiskOffer, offers_of
from grayshelf.work.bench.starter import gains_in_use

#: Gains that are offered where no light tells which are used, as shares of the range.
LADDER_OF_GAINS = (0.0, 0.25, 0.5, 0.75)


def bench_page(
    library: Library, rig_id: int, kind: str, devices: RigDevices | None, in_wheel: Sequence[str] = ()
) -> BenchOut:
    """What can be measured, and what was; `in_wheel`: the filters that a wheel brings in."""
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        in_use = gains_in_use(library, rig)
        word = word_where_measured(library, rig.camera)
        facts = devices.camera.facts if devices else None
        offsets = facts.offset_range if facts else camera_of(rig).offset_range
        cannot = ""
        if facts is None:
            cannot = "No camera is connected to this rig: your own program shoots, or use frames on disk."
        elif kind == "offset" and facts.offset_range is None:
            cannot = f"{rig.camera} does not let its offset be set."
        none_to_set = None
        if kind == "offset" and offsets is None:
            none_to_set = _no_offset(library, rig)
        rows = measurements_of(session, rig.camera, kind)
        known = {f.code: f.passband_nm for f in rig.filters}
        seconds, frames = _cost(library, session, rig, devices, kind)
        return BenchOut(
            kind=cast(Kind, kind),
            camera=rig.camera,
            can_shoot=not cannot,
            by_folder=facts is None,
            cannot=cannot,
            none_to_set=none_to_set,
            gain_word=word,
            one_gain=word == ONE_GAIN,
            gain_range=list(facts.gain_range) if facts and facts.gain_range else None,
            offset_range=list(offsets) if offsets else None,
            gains=_gain_offers(session, rig, kind, in_use, facts.gain_range if facts else None, word),
            filters=[FilterOffer(code=code, passband_nm=known.get(code)) for code in in_wheel],
            filter_code=_usual_filter(rig, in_wheel),
            seconds_per_gain=seconds,
            frames_per_gain=frames,
            disk=[_disk_offer(o, kind, word) for o in offers_of(library, rig, kind)],
            measurements=[measurement_item(r, word) for r in rows],
            accepted=accepted_table(library, session, rig, kind, word),
        )


def _no_offset(library: Library, rig: Rig) -> NoneToSetOut | None:
    """Why a camera has no offset to set, as far as its frames tell; None where it may have one."""
    says = says_of(library, rig)
    if "offset" in says.fixed:
        head = f"{rig.camera} has no offset to set."
        why = "It keeps the pedestal that it was made with, as cameras with an ISO dial do."
    elif "offset" in says.untold - says.moves and has_one_gain(library, rig.camera):
        head = f"No frame of {rig.camera} tells an offset."
        why = "Nor does any tell a gain: that is how frames look of a camera that was made with one of each."
    else:
        return None
    told = "Whether any of its pixels are cut off at zero is told on the cards of its bias."
    return NoneToSetOut(head=head, why=f"{why} {told}")


def _cost(
    library: Library, session: Session, rig: Rig, devices: RigDevices | None, kind: str
) -> tuple[float, int]:
    """Seconds and frames for one gain."""
    if devices is None:
        # Another program's pace is its own.
        return 0.0, measure_offset.USUAL_FRAMES + 1 if kind == "offset" else 58
    if kind == "offset":
        return measure_offset.usual_seconds(devices, 1, 60.0), measure_offset.USUAL_FRAMES + 1
    wishes = flat_wishes(library, rig)
    timed = source_of(session, rig, wishes, None).timed
    shortest = measure_gain.shortest_for(devices, wishes.shortest_s, timed)
    return measure_gain.usual_seconds(
        devices, 1, shortest
    ), 58 if devices.camera.facts.bayer_pattern is None else 86


def _usual_filter(rig: Rig, in_wheel: Sequence[str]) -> str | None:
    """The narrowest filter: a panel is rarely dim enough for the others."""
    known = [f for f in rig.filters if f.width_nm is not None and f.code in in_wheel]
    if known:
        return min(known, key=lambda f: f.width_nm or 0.0).code
    return in_wheel[0] if in_wheel else None


def _gain_offers(
    session: Session,
    rig: Rig,
    kind: str,
    in_use: dict[float, set[float]],
    span: tuple[float, float] | None,
    word: str,
) -> list[GainOffer]:
    known = accepted(session, rig.camera, kind)
    ladder = [round(span[0] + share * (span[1] - span[0])) for share in LADDER_OF_GAINS] if span else []
    gains = sorted({*in_use, *known, *([float(g) for g in ladder] if kind == "gain" or not in_use else [])})
    result = []
    for gain in gains:
        said = []
        if gain in in_use:
            at = in_words.listed(f"{o:g}" for o in sorted(in_use[gain]))
            said.append(f"lights at offset {at}" if at else "lights")
        said.append(
            f"measured {in_words.day(known[gain].accepted_at.date())}" if gain in known else "never measured"
        )
        result.append(
            GainOffer(gain=gain, text=gain_named(word, gain), in_use=gain in in_use, note=", ".join(said))
        )
    return result


def _disk_offer(offer: DiskOffer, kind: str, word: str) -> DiskOfferOut:
    nights = f", {in_words.days(offer.nights)}" if offer.nights else ""
    if kind == "offset":
        text = (
            f"{offer.n_bias} bias frames at offset {in_words.listed(f'{o:g}' for o in offer.offsets)}{nights}"
        )
        quick = len(offer.offsets) < 2
    else:
        text = f"{offer.n_flats} flats at {in_words.several(offer.levels, 'level')}, {offer.n_bias} bias frames{nights}"
        quick = offer.levels < 3
    return DiskOfferOut(
        gain=offer.gain,
        gain_text=gain_named(word, offer.gain),
        text=text,
        set_ids=list(offer.set_ids),
        quick=quick,
    )


def measurement_item(row: Measurement, word: str) -> BenchItem:
    """A measurement in a list."""
    return BenchItem(
        id=row.id,
        title=gains_named(word, row.gains),
        when=in_words.day(row.made_at.date()),
        gains=row.gains,
        source="shot here" if row.source == "shot" else "from frames on disk",
    )


def accepted_table(library: Library, session: Session, rig: Rig, kind: str, word: str) -> list[AcceptedOut]:
    """The camera's card: what counts at each gain, and which pairs the lights use unchecked."""
    known = accepted(session, rig.camera, kind)
    in_use = gains_in_use(library, rig)
    rows = []
    for gain in sorted({*known, *in_use}):
        warning = ""
        if kind == "offset":
            told = [offset_warning(library, rig.camera, gain, o) for o in sorted(in_use.get(gain, ()))]
            warning = " ".join(t.message for t in told if t)
        row = known.get(gain)
        if row is None:
            rows.append(
                AcceptedOut(
                    gain=gain,
                    gain_text=gain_named(word, gain),
                    value="–",
                    detail="never measured",
                    when="",
                    own_choice=False,
                    measurement_id=None,
                    warning=warning,
                )
            )
        else:
            rows.append(accepted_out(row, word, warning))
    return rows


def accepted_out(row: CameraValue, word: str, warning: str = "") -> AcceptedOut:
    """What counts with a camera at one gain."""
    v = row.values
    if row.kind == "offset":
        value = f"{v['offset']:g}"
        detail = f"floor {in_words.number(v['floor'])}{in_words.THIN}ADU, costs {in_words.number(v['cost_percent'], 2)} %"
        if row.own_choice:
            detail += f"; your choice, measured {v['lowest']:g}"
    else:
        value = f"{v['e_per_adu']:.3g}{in_words.THIN}e⁻/ADU"
        detail = f"read noise {v['read_noise_e']:.2f}{in_words.THIN}e⁻"
        if v.get("linear_limit_adu"):
            detail += f", linear to {in_words.number(v['linear_limit_adu'])}{in_words.THIN}ADU"
        if v.get("quick"):
            detail += "; a quick estimate"
    return AcceptedOut(
        gain=row.gain,
        gain_text=gain_named(word, row.gain),
        value=value,
        detail=detail,
        when=in_words.day(row.accepted_at.date()),
        own_choice=row.own_choice,
        measurement_id=row.measurement_id,
        warning=warning,
    )
