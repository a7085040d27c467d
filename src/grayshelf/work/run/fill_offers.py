"""Darks and bias that could be shot to fill the shelf: what lights lack, what the house rules ask for, what a person adds."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from sqlalchemy.orm import Session

from grayshelf.core.digits import several
from grayshelf.core.flats.settings import RowKey
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.cameras_alike import may_be_of
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.match import choose, gap_key
from grayshelf.core.matching.model import CommonSettings, Holding, RigSays, SlipLine, Verdict
from grayshelf.core.matching.stock import Role, Wanted
from grayshelf.core.planning.fill import STANDARD_WORTH, Count, Fillable, counts_to_choose
from grayshelf.core.planning.sheet import DarkSeries, RigPace
from grayshelf.core.planning.standard_darks import set_ups_in_use
from grayshelf.core.planning.uncooled_darks import near_as_can_be, wanted_now
from grayshelf.core.planning.worth import WouldUse, added_percent, dark_worth, saved_percent
from grayshelf.core.rigs.house_rules import HouseRules
from grayshelf.library.cameras_alike import shelf_of, tells_apart
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, light_sets, light_terms
from grayshelf.library.models import Rig
from grayshelf.library.rig_terms import TermsByGain, camera_of, house_rules_of, says_of
from grayshelf.library.slips import slips
from grayshelf.library.told_settings import settings_of_row, told_settings
from grayshelf.library.trains import standing_rigs
from grayshelf.work.run.dark_offers import Cooler
from grayshelf.work.run.fill_keys import SetUp, Step, key_of
from grayshelf.work.run.reach import binning_of, not_settable

#: Fewer frames than this are no series to shoot on purpose.
FEWEST_DARKS, FEWEST_BIAS = 10, 30


@dataclass(frozen=True)
class FillOffer:
    """A series that could be shot."""

    series: DarkSeries
    fillable: Fillable
    set_up: SetUp
    users: tuple[WouldUse, ...] = ()
    targets: tuple[str, ...] = ()
    why: str = ""
    """Who asks for it, and what is wrong with what is there."""
    missing: bool = False
    """Lights wait for it that have nothing."""
    there: Holding | None = None
    """Bias that serves already."""

    @property
    def lights(self) -> int:
        """How many lights would use it."""
        return sum(u.lights for u in self.users)

    def added(self, frames: int) -> float | None:
        """What so many frames add to the noise of their lights, in percent."""
        return added_percent(frames, self.users)

    def saved(self, frames: int) -> float | None:
        """By how much less they add than what is there, in percent."""
        return saved_percent(frames, self.users)


@dataclass
class _Asked:
    """Lights that ask for one dark."""

    want: CommonSettings
    users: list[WouldUse] = field(default_factory=list)
    targets: list[str] = field(default_factory=list)
    why: str = ""
    missing: bool = False


def fill_offers(
    library: Library, rig: Rig, pace: RigPace, ladder: Sequence[Step], shortest_s: float, cooler: Cooler
) -> list[FillOffer]:
    """All darks and bias that lights or house rules ask for, and the rungs of a ladder.

    Parameters
    ----------
    shortest_s
        The exposure of a bias.
    cooler
        Where the rig's camera is not brought to a set point, only darks without one can be shot on purpose.
    """
    found = dict(_needed(library, library.revision, rig.id, pace, shortest_s, cooler))
    for offer in _rungs(ladder, house_rules_of(rig), pace):
        there = found.get(offer.fillable.key)
        if there is not None:
            offer = replace(there, fillable=replace(there.fillable, asked=True))
        found[offer.fillable.key] = offer
    if camera_of(rig).bias_usable is not False:
        for offer in _bias_of_rungs(library, rig, ladder, found, pace, shortest_s):
            found.setdefault(offer.fillable.key, offer)
    return list(found.values())


@kept(16)
def _needed(
    library: Library, revision: int, rig_id: int, pace: RigPace, shortest_s: float, cooler: Cooler
) -> dict[str, FillOffer]:
    """What lights and house rules ask for, by key; kept until the shelf changes."""
    with library.db.own_session() as session:
        rig = library.rig(session, rig_id)
        rules, found = house_rules_of(rig), dict[str, FillOffer]()
        every = settings_in_use(library, session, rig)
        darks = [_dark(asked, rules, pace) for asked in _asked_by_lights(library, session, rig, cooler)]
        for offer in (*darks, *_standards(library, rig, every, rules, pace, cooler.there)):
            found.setdefault(offer.fillable.key, offer)
        if camera_of(rig).bias_usable is not False:
            for offer in _bias(library, rig, every, rules, pace, shortest_s):
                found.setdefault(offer.fillable.key, offer)
        return found


def settings_in_use(library: Library, session: Session, rig: Rig) -> list[CommonSettings]:
    """What the lights of a camera have, oldest first; where there are none, how a person means to use it."""
    lights = [s.nominal for one in _rigs_of(library, session, rig) for s in light_sets(library, one)]
    return lights or told_settings(library, session, rig)


def _rigs_of(library: Library, session: Session, rig: Rig) -> list[Rig]:
    """All rigs that the camera sits in: darks and bias serve them all. Another camera of its name is none of them."""
    own = tells_apart(library, rig.camera, rig.telescope)
    of_the_name = session.scalars(standing_rigs().where(Rig.camera == rig.camera).order_by(Rig.id))
    return [one for one in of_the_name if may_be_of(own, one.telescope)]


def _asked_by_lights(library: Library, session: Session, rig: Rig, cooler: Cooler) -> Iterable[_Asked]:
    found: dict[tuple[object, ...], _Asked] = {}
    for one in _rigs_of(library, session, rig):
        terms, says = TermsByGain(library, one), says_of(library, one)
        for lights, slip in slips(library, one.id):
            line = next((x for x in slip.lines if x.kind is FrameKind.DARK), None)
            chosen = line is not None and line.by_hand and not line.scaled
            if line is None or chosen or line.verdict is Verdict.FITS or not lights.row.n_kept:
                continue
            want = _settable(lights, says, cooler)
            if want is None or (not cooler.there and near_as_can_be(line.chosen, cooler.tonight)):
                continue
            asked = found.setdefault(gap_key(FrameKind.DARK, want), _Asked(want))
            _add(asked, lights, line, light_terms(library, lights, terms(want.gain)))
    return found.values()


def _settable(lights: LightSet, says: RigSays, cooler: Cooler) -> CommonSettings | None:
    """What the darks of lights are to be set to; None where that is not known, or cannot be had now."""
    want, to_set = lights.nominal, ("exposure", "gain", "offset")
    if not cooler.there:
        want_now = wanted_now(want, lights.row.night, cooler.tonight)
        return None if want_now is None or not_settable(want, says, to_set) else want_now
    unknown = want.sensor_temp_c is None or not_settable(want, says, (*to_set, "temperature"))
    return None if unknown else want


def _add(asked: _Asked, lights: LightSet, line: SlipLine, terms: Terms) -> None:
    there = line.chosen.holding if line.chosen is not None and not line.scaled else None
    asked.users.append(WouldUse(lights.row.n_kept, lights.nominal, terms, there))
    asked.targets.append(lights.facts.target or "no target")
    asked.missing = asked.missing or there is None
    if line.chosen is not None:
        asked.why = asked.why or "; ".join(line.chosen.reasons)


def _set_up_of(want: CommonSettings) -> SetUp:
    return SetUp(want.gain or 0.0, want.offset or 0.0, binning_of(want), want.read_mode)


def _series(
    kind: FrameKind,
    set_up: SetUp,
    exposure_s: float,
    temp_c: float | None,
    count: int,
    lights: int,
    targets: Sequence[str],
) -> DarkSeries:
    return DarkSeries(
        exposure_s,
        temp_c,
        set_up.gain,
        set_up.offset,
        set_up.binning,
        count,
        lights,
        tuple(dict.fromkeys(targets)),
        kind,
        read_mode=set_up.read_mode,
    )


def _fillable(
    kind: FrameKind,
    set_up: SetUp,
    exposure_s: float,
    temp_c: float | None,
    counts: tuple[Count, ...],
    pace: RigPace,
    *,
    asked: bool = False,
) -> Fillable:
    frame_s = exposure_s + pace.download_s + pace.pause_s
    once_s = pace.drop_first * frame_s + pace.build_s
    return Fillable(key_of(kind, set_up, exposure_s, temp_c), frame_s, once_s, counts, temp_c, asked)


def _dark(asked: _Asked, rules: HouseRules, pace: RigPace) -> FillOffer:
    want, set_up, users = asked.want, _set_up_of(asked.want), tuple(asked.users)
    assert want.exposure_s is not None
    numbers = {
        rules.n_darks,
        max(round(rules.n_darks * 2 / 3), FEWEST_DARKS),
        max(rules.n_darks // 2, FEWEST_DARKS),
    }
    counts = counts_to_choose(rules.n_darks, FEWEST_DARKS, {n: dark_worth(n, users) for n in numbers})
    place = FrameKind.DARK, set_up, want.exposure_s, want.sensor_temp_c
    series = _series(*place, rules.n_darks, sum(u.lights for u in users), asked.targets)
    return FillOffer(
        series,
        _fillable(*place, counts, pace),
        set_up,
        users,
        series.targets,
        "nothing on the shelf fits" if asked.missing else asked.why,
        asked.missing,
    )


def _standards(
    library: Library,
    rig: Rig,
    lights: Sequence[CommonSettings],
    rules: HouseRules,
    pace: RigPace,
    cools: bool,
) -> list[FillOffer]:
    """Standard darks of the house rules that are not on the shelf, or not as they should be."""
    if not cools:
        return []
    wants = [
        replace(want, sensor_temp_c=temp, exposure_s=exposure, held=True, temp_range_c=0.0)
        for want in set_ups_in_use(lights, says_of(library, rig))
        for temp in rules.dark_temps_c
        for exposure in rules.dark_exposures_s
    ]
    terms = TermsByGain(library, rig)
    lines = choose(
        FrameKind.DARK,
        shelf_of(library, rig),
        [Wanted(Role.DARK, want, terms(want.gain)) for want in wants],
        runners_up=0,
    )
    found = []
    for want, line in zip(wants, lines, strict=True):
        if line.verdict is Verdict.FITS or want.exposure_s is None:
            continue
        why = "a standard of your house rules"
        if line.chosen is not None:
            why += f"; what is there: {'; '.join(line.chosen.reasons)}"
        found.append(_unasked(FrameKind.DARK, want, want.exposure_s, rules.n_darks, FEWEST_DARKS, why, pace))
    return found


def _unasked(
    kind: FrameKind, want: CommonSettings, exposure_s: float, count: int, fewest: int, why: str, pace: RigPace
) -> FillOffer:
    """A series that no lights wait for."""
    set_up, temp = _set_up_of(want), want.sensor_temp_c if kind is FrameKind.DARK else None
    place = kind, set_up, exposure_s, temp
    numbers = {n: STANDARD_WORTH * (n / count) ** 0.5 for n in range(min(fewest, count), count + 1)}
    counts = counts_to_choose(count, min(fewest, count), numbers)
    return FillOffer(_series(*place, count, 0, ()), _fillable(*place, counts, pace), set_up, why=why)


def _bias(
    library: Library,
    rig: Rig,
    lights: Sequence[CommonSettings],
    rules: HouseRules,
    pace: RigPace,
    shortest_s: float,
) -> list[FillOffer]:
    """Bias of every set-up in use that is not on the shelf, or not as it should be."""
    wants, terms = set_ups_in_use(lights, says_of(library, rig)), TermsByGain(library, rig)
    lines = choose(
        FrameKind.BIAS,
        shelf_of(library, rig),
        [Wanted(Role.BIAS, want, terms(want.gain)) for want in wants],
        runners_up=0,
    )
    found = []
    for want, line in zip(wants, lines, strict=True):
        if line.verdict is Verdict.FITS:
            # For whoever wants more of it: nobody else does.
            there = line.chosen.holding if line.chosen is not None else None
            fine = _unasked(FrameKind.BIAS, want, shortest_s, rules.n_bias, FEWEST_BIAS, "", pace)
            counts = (Count(rules.n_bias, 0.0),)
            why = f"what is there fits: {several(there.n_frames if there else 0, 'frame')}"
            found.append(replace(fine, fillable=replace(fine.fillable, counts=counts), why=why, there=there))
            continue
        why = "none that is set so is on the shelf"
        if line.chosen is not None:
            why = "; ".join(line.chosen.reasons)
        found.append(_unasked(FrameKind.BIAS, want, shortest_s, rules.n_bias, FEWEST_BIAS, why, pace))
    return found


def _bias_of_rungs(
    library: Library,
    rig: Rig,
    ladder: Sequence[Step],
    found: Mapping[str, FillOffer],
    pace: RigPace,
    shortest_s: float,
) -> list[FillOffer]:
    """Bias where a ladder is laid at a gain and offset that nothing here was taken at yet."""
    known = {o.set_up for o in found.values() if o.series.kind is FrameKind.BIAS}
    fresh = dict.fromkeys(step.set_up for step in ladder if step.set_up not in known)
    if not fresh:
        return []
    with library.db.own_session() as session:
        wants = [
            replace(
                settings_of_row(session, rig, RowKey("", s.gain, s.offset, s.binning)), read_mode=s.read_mode
            )
            for s in fresh
        ]
    return _bias(library, rig, wants, house_rules_of(rig), pace, shortest_s)


def _rungs(ladder: Sequence[Step], rules: HouseRules, pace: RigPace) -> list[FillOffer]:
    """What a person put on the sheet."""
    found = []
    for rung in ladder:
        place = FrameKind.DARK, rung.set_up, rung.exposure_s, rung.temp_c
        counts = (Count(rules.n_darks, STANDARD_WORTH),)
        found.append(
            FillOffer(
                _series(*place, rules.n_darks, 0, ()),
                _fillable(*place, counts, pace, asked=True),
                rung.set_up,
                why="you asked for it",
            )
        )
    return found
