"""A pull slip in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date

from grayshelf.core.digits import significant
from grayshelf.core.errors import NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.matching.age import age_step
from grayshelf.core.matching.cameras_alike import CAMERA
from grayshelf.core.matching.model import Candidate, PullSlip, Scaling, SlipLine, Verdict
from grayshelf.core.matching.part_of_sensor import PART
from grayshelf.core.matching.parts import answered
from grayshelf.core.matching.passed_over import passed_over
from grayshelf.library.holdings import holdings
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, light_set
from grayshelf.library.models import FrameSet, Rig
from grayshelf.library.rig_terms import gain_word, rig_of_lights, terms_of
from grayshelf.library.scaling import could_be_scaled
from grayshelf.library.slips import slip_for
from grayshelf.web.common import in_words
from grayshelf.web.common.rigs import passbands
from grayshelf.web.intake.schemas import CountOut
from grayshelf.web.nights.schemas import CandidateOut, PartSaid, QuestionOut, ScaleOut, SlipLineOut, SlipOut
from grayshelf.web.nights.slip_offers import SlipOffers, offers_for
from grayshelf.web.shelf.walls import kind_title
from grayshelf.work.run.tonight import Tonight

#: The columns of a slip: what is compared, in this order.
COLUMNS = (
    "camera",
    "filter",
    "telescope",
    "focal length",
    "part of the sensor",
    "gain",
    "offset",
    "binning",
    "read-out mode",
    "row order",
    "colour phase",
    "temperature",
    "exposure",
    "angle",
    "focus",
    "age",
)
#: What has a column only where somewhere it is not as it should be: else it is the same for all, and known.
_SHOWN_IF_OFF = {"filter", "telescope", "focal length", "read-out mode", "row order", "colour phase"}
#: What is told in words alone: a column of it would push the ages out of sight. The table that is saved has all.
_IN_WORDS = {CAMERA, PART}


def slip_page(library: Library, set_id: int, tonight_of: dict[int, Tonight] | None = None) -> SlipOut:
    """The pull slip of a set of lights."""
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None or row.kind != "light":
            raise NotFound("These lights are not in the library.")
        rig = rig_of_lights(session, row)
        bands = passbands(rig)
        today = night_of_utc(library.clock.now(), library.zone(session))
        lights = light_set(row)
    slip = slip_for(library, rig, lights)
    word = gain_word(library, rig.camera)
    scales = _scales(library, rig, lights, slip)
    lines = [
        _line_out(line, line.note or _passed_over(library, rig, lights, slip, line), today, word, scales)
        for line in slip.lines
    ]
    shown, offered = _columns_shown(lines), offers_for(set_id, slip, (tonight_of or {}).get(rig.id))
    gain = f", {word} {in_words.plain(lights.facts.gain)}" if lights.facts.gain is not None else ""
    return SlipOut(
        set_id=set_id,
        title=", ".join(
            [
                f"{in_words.series(row.n_frames, lights.want.exposure_s)}{gain}",
                *in_words.stop_of(lights.want),
                *in_words.part_of_sensor(lights.want),
            ]
        ),
        target=lights.facts.target or "no target",
        filter_code=lights.facts.filter_code,
        passband_nm=bands.get(lights.facts.filter_code or ""),
        verdict=slip.verdict.value,
        lines=lines,
        columns=[CountOut(name=c, count=i) for i, c in enumerate(COLUMNS) if c in shown],
        warnings=list(slip.warnings),
        questions=[
            QuestionOut(quantity=q.quantity, text=q.text, fixed=q.fixed_label, moves=q.moves_label)
            for q in slip.questions
        ],
        said=[
            PartSaid(quantity=q, text=answered(q, says))
            for q, says in (rig.says or {}).items()
            if answered(q, says)
        ],
        rig_id=rig.id,
        gain_word=word,
        advice=_advice(slip, offered),
        offers=offered.keys,
        against=offered.against,
    )


def _columns_shown(lines: Sequence[SlipLineOut]) -> set[str]:
    """Quantities that say something: some only where they are off, or in doubt."""
    candidates = (c for line in lines for c in [line.chosen, *line.runners_up] if c is not None)
    return {
        r.quantity
        for c in candidates
        for r in c.rulers
        if r.quantity not in _IN_WORDS
        and (r.quantity not in _SHOWN_IF_OFF or not r.inside or r.from_name or r.by_hand)
    }


def _passed_over(library: Library, rig: Rig, lights: LightSet, slip: PullSlip, line: SlipLine) -> str:
    """Of a line without any candidate, why what is there is none."""
    if line.verdict is not Verdict.NOTHING or line.runners_up or line.waits_for is not None:
        return ""
    flats = (x.chosen.holding.settings for x in slip.lines if x.kind is FrameKind.FLAT and x.chosen)
    want = next(flats, lights.want) if line.kind in (FrameKind.DARK_FLAT, FrameKind.BIAS) else lights.want
    terms = terms_of(library, rig, lights.want.gain)
    return passed_over(line.kind, want, holdings(library, rig.camera), terms)


def _scales(library: Library, rig: Rig, lights: LightSet, slip: PullSlip) -> dict[str, ScaleOut]:
    """What next best darks could be scaled to, by their keys: only where none fits as it is."""
    dark = next((line for line in slip.lines if line.kind is FrameKind.DARK), None)
    if dark is None or dark.verdict is Verdict.FITS:
        return {}
    found = could_be_scaled(library, rig, lights, [c.holding for c in dark.runners_up])
    nights = {h.key: h.settings.night for h in holdings(library, rig.camera) if h.kind is FrameKind.BIAS}
    return {
        key: ScaleOut(
            action=f"scale to {in_words.seconds(one.scaling.to_s)}",
            told=_told_of_scaling(one, one.scaling, nights.get(one.scaling.bias_key)),
        )
        for key, one in found.items()
        if one.scaling is not None
    }


def _told_of_scaling(one: Candidate, scaling: Scaling, night: date | None) -> list[str]:
    share, cost = significant(100 * scaling.share, 3), significant(one.cost_e, 2)
    return [
        f"The master bias of {in_words.day(night)} is taken off, and {share} % of what this dark of "
        f"{in_words.seconds(scaling.from_s)} has above it: that costs {cost} e⁻.",
        "Dark current grows evenly with time in most pixels, but not in every hot one.",
        "A dark as long as the lights is better, and is used as soon as one that fits is on the shelf.",
    ]


def _line_out(
    line: SlipLine, note: str, today: date, word: str, scales: Mapping[str, ScaleOut]
) -> SlipLineOut:
    return SlipLineOut(
        kind=line.kind.value,
        verdict=line.verdict.value,
        chosen=_candidate_out(line.chosen, today, "", word) if line.chosen else None,
        runners_up=[
            _candidate_out(
                c, today, lost, word, scales.get(c.holding.key) if line.kind is FrameKind.DARK else None
            )
            for c, lost in zip(line.runners_up, line.lost_on, strict=True)
        ],
        note=note,
        waits=line.waits_for is not None,
        by_hand=line.by_hand,
    )


def _candidate_out(
    candidate: Candidate, today: date, lost: str, word: str, scale: ScaleOut | None = None
) -> CandidateOut:
    holding = candidate.holding
    have = holding.settings
    title = kind_title(holding)
    if have.gain is not None:
        title += f", {word} {in_words.plain(have.gain)}"
    if holding.kind is FrameKind.FLAT and have.angle is not None:
        title += f", {in_words.number(have.angle.deg, 1)}°"
    loose = "" if holding.is_master else ", loose"
    notes = [r.note for r in candidate.rulers if r.quantity == PART and r.note]
    if candidate.scaling is not None:
        notes.append(f"scaled to {in_words.seconds(candidate.scaling.to_s)}")
    frames = f"{in_words.frames(holding.n_frames, known=holding.count_known)}{loose}"
    cost = f"{significant(candidate.cost_e, 2)} e⁻" if holding.kind is not FrameKind.FLAT else ""
    return CandidateOut(
        holding_id=int(holding.key),
        title=title[:1].upper() + title[1:],
        detail=", ".join([frames, in_words.day(have.night), *notes]),
        verdict=candidate.verdict.value,
        is_master=holding.is_master,
        age_step=age_step((today - have.night).days) if have.night else 0,
        care=candidate.verdict is Verdict.CARE,
        rulers=[in_words.ruler_out(r) for r in candidate.rulers],
        reasons=list(candidate.reasons),
        lost_on=lost,
        cost=cost,
        scaled=candidate.scaling is not None,
        scale=scale,
    )


def _advice(slip: PullSlip, offered: SlipOffers) -> str:
    """One sentence at the foot of a slip: what to do about it."""
    if any(line.verdict is Verdict.NOTHING for line in slip.lines):
        missing = " or ".join(kind.value for kind in offered.asked)
        gap = "close the gap" if len(offered.asked) == 1 else "close these gaps"
        return f"No {missing} fits these lights.{offered.sentence(gap)}"
    care = [
        f"the {line.kind.value}: {'; '.join(line.chosen.reasons)}"
        for line in slip.lines
        if line.verdict is Verdict.CARE and line.chosen is not None and line.chosen.reasons
    ]
    if care:
        does = "shoot one that fits" if any(line.scaled for line in slip.lines) else "renew it"
        return f"Care with {in_words.listed(care)}.{offered.sentence(does)}"
    return "Everything these lights need is on the shelf." if slip.lines else ""


def slip_csv_rows(slip: SlipOut) -> list[list[object]]:
    """A slip as a table: every candidate of every line with its distances."""
    rows: list[list[object]] = [["line", "place", "verdict", "what", "detail", "lost_on", *COLUMNS]]
    for line in slip.lines:
        for place, c in [("chosen", line.chosen), *(("next best", c) for c in line.runners_up)]:
            if c is None:
                rows.append([line.kind, "chosen", line.verdict, "", "", line.note, *[""] * len(COLUMNS)])
                continue
            texts = {r.quantity: f"{r.text} (said by hand)" if r.by_hand else r.text for r in c.rulers}
            reasons = c.lost_on or "; ".join(c.reasons)
            rows.append(
                [
                    line.kind,
                    place,
                    c.verdict,
                    c.title,
                    c.detail,
                    reasons,
                    *(texts.get(q, "") for q in COLUMNS),
                ]
            )
    return rows
