"""What a card tells of a flat's dust, and of how its light falls."""

from __future__ import annotations

import math
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date

from sqlalchemy.orm import Session

from grayshelf.core.checks.dust import Shadow
from grayshelf.core.checks.dust_over_time import (
    SAME_ANGLE_DEG,
    Cleaning,
    Since,
    cleaning,
    comes_back,
    of_one_time,
    since_when,
)
from grayshelf.core.checks.dust_where import Distance, OtherFlat, distance_of, where_of
from grayshelf.core.checks.light_fall import LightFall, light_change
from grayshelf.core.errors import NotFound
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.lit_part import lit_part_of
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet
from grayshelf.library.rig_terms import rig_of
from grayshelf.web.common import in_words
from grayshelf.web.shelf.schemas import DustOut, LightChangeOut, LightFallOut, ShadowOut
from grayshelf.work.flat_looks import Beside, FlatLook, flats_beside, look_at_flat, look_until

#: Flats that nobody looked at yet are gone through for so long; then the page asks again.
FOR_S = 0.8


@dataclass(frozen=True)
class _Flat:
    """The flat of a card, and what stands beside it."""

    night: date | None
    facts: FrameFacts
    look: FlatLook
    others: Sequence[Beside]
    looks: Mapping[int, FlatLook]

    @property
    def of_its_filter(self) -> list[Beside]:
        """Flats of its filter at its angle."""
        return [
            o
            for o in self.others
            if o.facts.filter_code == self.facts.filter_code
            and o.turned_deg is not None
            and abs(o.turned_deg) < SAME_ANGLE_DEG
        ]

    @property
    def earlier(self) -> list[tuple[date, Beside]]:
        """Those of them that were taken on earlier nights."""
        return [(o.night, o) for o in self.of_its_filter if o.night and self.night and o.night < self.night]


def dust_page(library: Library, set_id: int) -> DustOut:
    """The dust on a master flat: each shadow with what other flats say of it.

    Raises
    ------
    NotFound
        Where it is no master flat.
    """
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None or row.kind != "flat" or not row.is_master or not row.frames:
            raise NotFound("There is no master flat here to look for dust on.", "Combine its frames first.")
        facts, night, frame_id = facts_from_json(row.facts), row.night, row.frames[0].id
        optics = _optics(session, row, facts)
        others = flats_beside(library, session, row)
    own = look_at_flat(library, set_id)
    until = time.monotonic() + FOR_S
    looks, left = look_until(library, others, lambda: time.monotonic() > until)
    flat = _Flat(night, facts, own, [o for o in others if o.set_id in looks], looks)
    earlier = [(night, looks[o.set_id].shadows) for night, o in flat.earlier]
    since = [since_when(s, earlier) for s in own.shadows]
    shadows = [_shadow_out(n, s, flat, optics) for n, s in enumerate(zip(own.shadows, since, strict=True), 1)]
    return DustOut(
        set_id=set_id,
        frame_id=frame_id,
        width=facts.width,
        height=facts.height,
        shadows=shadows,
        flats=len(looks) + 1,
        left=left,
        no_distance="" if optics else _no_distance(facts),
        advice=_advice(own.shadows, since),
        light=_light_out(own.light, facts),
        change=_change_out(flat),
        steady=""
        if comes_back(own.shadows, [looks[o.set_id].shadows for o in flat.of_its_filter])
        else _MOVES,
    )


def _optics(session: Session, row: FrameSet, facts: FrameFacts) -> tuple[float, float] | None:
    """Pixel in µm, as it is binned, and focal ratio; None where one is not known."""
    rig = rig_of(session, row)
    aperture = facts.aperture_mm or (rig.aperture_mm if rig else None)
    focal = facts.focal_length_mm or (rig.focal_length_mm if rig else None)
    if not facts.pixel_um or not aperture or not focal:
        return None
    return facts.pixel_um, focal / aperture


def _no_distance(facts: FrameFacts) -> str:
    if not facts.pixel_um:
        return "How far they are from the sensor is not told: no header of this flat says how large a pixel is (XPIXSZ)."
    return (
        "How far they are from the sensor is not told: aperture or focal length of the telescope is not known. Say it on "
        "Rigs."
    )


def _shadow_out(
    number: int, told: tuple[Shadow, Since], flat: _Flat, optics: tuple[float, float] | None
) -> ShadowOut:
    shadow, since = told
    distance = distance_of(shadow.diameter, *optics) if optics else None
    beside = [
        OtherFlat(o.facts.filter_code, o.turned_deg, flat.looks[o.set_id].shadows)
        for o in flat.others
        if of_one_time(flat.night, o.night)
    ]
    size = flat.facts.width, flat.facts.height
    where = where_of(shadow, size, flat.facts.filter_code, beside, distance)
    return ShadowOut(
        number=number,
        x=shadow.x,
        y=shadow.y,
        diameter=shadow.diameter,
        depth_percent=100.0 * shadow.depth,
        depth_text=in_words.number(100.0 * shadow.depth, 1),
        distance_text=_distance_text(distance),
        surface=where.surface.value,
        why=where.why,
        since=_since(since),
    )


def _distance_text(distance: Distance | None) -> str:
    """'3.9 to 4.5 mm'."""
    if distance is None:
        return ""
    digits = 1 if distance.most_mm < 10 else 0
    least, most = (in_words.number(v, digits) for v in (distance.least_mm, distance.most_mm))
    return f"{least} to {most}{in_words.THIN}mm" if least != most else f"{most}{in_words.THIN}mm"


def _since(since: Since) -> str:
    """'new since 11 Oct 26', 'there since 2 Oct 26'."""
    if since.seen_on is None:
        return f"new since {in_words.day(since.new_after)}" if since.new_after else ""
    return f"there {'since' if since.new_after else 'on'} {in_words.day(since.seen_on)}"


def _advice(shadows: Sequence[Shadow], since: Sequence[Since]) -> str:
    what = cleaning(shadows, since)
    if what is Cleaning.NOTHING:
        return "No shadow of dust is seen on this flat."
    if what is Cleaning.SOON:
        deepest = in_words.number(100.0 * max(s.depth for s in shadows))
        return (
            f"Clean soon: {deepest} % of the light is lost in the deepest, and no flat gives back what the noise there "
            "takes."
        )
    if what is Cleaning.NEW:
        new = sum(s.new_after is not None and s.seen_on is None for s in since)
        came = in_words.several(new, "shadow")
        return (
            f"Clean when convenient. {came} came since the flats before: lights from then want those flats."
        )
    return "Clean when convenient; the flats take it out."


#: What shadows that do not come back to their place mean.
_MOVES = (
    "Between flats of this filter the shadows move by a tenth of their width and more: wheel or camera does not come back "
    "to its place, so flats of another night leave rings."
)


def _light_out(light: LightFall, facts: FrameFacts) -> LightFallOut:
    off = ""
    if light.middle is not None and light.off_percent is not None:
        left, top, right, bottom = lit_part_of(facts) or (0, 0, facts.width, facts.height)
        pixels = math.hypot(light.middle[0] - (left + right) / 2, light.middle[1] - (top + bottom) / 2)
        off = f"Its middle lies {in_words.several(round(pixels), 'pixel')} off the sensor’s middle, {in_words.number(light.off_percent, 0)}\u00a0% of the half diagonal"
    return LightFallOut(
        middle_x=light.middle[0] if light.middle else None,
        middle_y=light.middle[1] if light.middle else None,
        middle_text=off or "The light is too even to say where its middle is.",
        rings=[[round(100 * share), round(percent, 1)] for share, percent in light.rings],
        contours=[[percent, round(radius)] for percent, radius in light.contours],
        corners=[round(c, 1) for c in light.corners],
    )


def _change_out(flat: _Flat) -> LightChangeOut | None:
    """What changed since the last flat before it of its filter at its angle."""
    _, last = max(flat.earlier, key=lambda one: (one[0], one[1].set_id), default=(None, None))
    if last is None:
        return None
    change = light_change(flat.look.light, flat.looks[last.set_id].light)
    moved = change.middle_moved_px
    text = f"{in_words.number(change.percent, 2)} % from side to side"
    if moved is not None and moved > 0.01 * math.hypot(flat.facts.width, flat.facts.height):
        text += f"; its middle moved by {in_words.several(round(moved), 'pixel')}"
    return LightChangeOut(
        since=in_words.day(last.night), frame_id=last.frame_id, percent=change.percent, text=text
    )
