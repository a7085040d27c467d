"""Sets: frames that share every setting that matters for their kind."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Hashable, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from statistics import median, median_low

from grayshelf.core.frames.angle import CameraAngle, circular_difference, circular_mean
from grayshelf.core.frames.changing_light import follows_the_light, in_one_go
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind

#: Frames further apart than this were not taken at one setting of the camera.
ANGLE_SPLIT_DEG = 0.6
#: A measured temperature further than this from the set point counts, not the set point.
HELD_WITHIN_C = 1.0
#: No night in which pictures are taken is as cold (common practice): a sensor that is colder is cooled.
COLDEST_NIGHT_C = -40.0
#: Frames of a sensor that is as warm as the night stay one set over this range.
DRIFT_SPLIT_C = 2.0
#: Focal lengths further apart than this are of two trains: a reducer was put in or taken out.
FOCAL_SPLIT = 0.02
#: And focal ratios of a lens: stops are set in thirds, which are an eighth of it.
STOPS_APART = 0.05
#: Cameras without a set point are often timed by hand or by a remote release, which is a second more or less (common
#: practice, no source): as much longer exposures of so many seconds or more may be and be one set.
TIMED_BY_HAND_FROM_S, TIMED_ALIKE = 30.0, 0.02
#: Frames that begin within this after the last one were shot in one go with it (common practice).
IN_ONE_GO = timedelta(minutes=30)
_BY_TEMPERATURE = (FrameKind.DARK, FrameKind.DARK_FLAT, FrameKind.LIGHT)


def nominal_exposure(exposure_s: float) -> float:
    """The exposure as it was dialled: headers may say 299.98 for 300."""
    if exposure_s >= 30.0:
        return float(round(exposure_s))
    return float(f"{exposure_s:.3g}")


def nominal_temperature(sensor_c: float | None, set_c: float | None) -> float | None:
    """The temperature a frame stands for: the set point where it was held, else the measured degree."""
    if sensor_c is None:
        return None if set_c is None else float(round(set_c))
    if set_c is not None and abs(sensor_c - set_c) <= HELD_WITHIN_C:
        return float(round(set_c))
    return float(round(sensor_c))


def held(facts: FrameFacts) -> bool:
    """Whether the sensor was held at a set point, as against being as warm as it was."""
    return held_at(facts.sensor_temp_c, facts.set_temp_c)


def held_at(sensor_c: float | None, set_c: float | None) -> bool:
    """The same by its temperature and the set point, °C."""
    return sensor_c is not None and set_c is not None and abs(sensor_c - set_c) <= HELD_WITHIN_C


def shows_a_cooler(sensor_c: float | None, set_c: float | None) -> bool:
    """Whether a frame's temperatures, °C, say that its camera is cooled: it was held at a set point, or is colder than a
    night."""
    return held_at(sensor_c, set_c) or (sensor_c is not None and sensor_c < COLDEST_NIGHT_C)


def set_key(facts: FrameFacts, *, of_night: bool = True) -> tuple[Hashable, ...]:
    """Everything that the frames of one set have in common, but for the angle, and for exposures that are split later.

    Parameters
    ----------
    of_night
        The night, too: only frames shot in one go over noon are of two nights, and of one set.
    """
    kind = facts.kind
    key: list[Hashable] = [
        kind,
        facts.camera,
        facts.width,
        facts.height,
        facts.binning_x,
        facts.binning_y,
        facts.read_mode,
        facts.gain,
        facts.offset,
        facts.night if of_night else None,
    ]
    if kind is FrameKind.FLAT:
        key.append("of the sky, each as long as it needed" if facts.of_sky else None)
    elif kind is not FrameKind.BIAS:
        long = "a long one" if may_be_timed_by_hand(facts) else None
        key.append(None if facts.exposure_s is None else long or nominal_exposure(facts.exposure_s))
    if kind in _BY_TEMPERATURE:
        key.append(nominal_temperature(facts.sensor_temp_c, facts.set_temp_c) if held(facts) else "as it was")
    if kind in (FrameKind.FLAT, FrameKind.LIGHT):
        key += [facts.telescope, facts.filter_code, facts.bayer_pattern]
    if kind is FrameKind.LIGHT:
        key += [facts.target, facts.calibrated]
    if facts.stacked:
        key.append("stacked")
    if facts.corner_x or facts.corner_y:
        # Not each program tells where a frame of the whole sensor begins.
        key.append(("from", facts.corner_x, facts.corner_y))
    return tuple(key)


def may_be_timed_by_hand(facts: FrameFacts) -> bool:
    """Whether an exposure may be a second off though it was meant to be another's."""
    timed = facts.kind in (FrameKind.LIGHT, FrameKind.DARK) and facts.set_temp_c is None
    return timed and (facts.exposure_s or 0.0) >= TIMED_BY_HAND_FROM_S


@dataclass(frozen=True)
class Member:
    """One frame on its way into a set."""

    frame_id: int
    facts: FrameFacts


def _split_by_angle(members: list[Member]) -> list[list[Member]]:
    """Split where the camera was turned: neighbours on the circle more than `ANGLE_SPLIT_DEG` apart."""
    groups: dict[Hashable, list[Member]] = defaultdict(list)
    for member in members:
        angle = member.facts.angle
        groups[None if angle is None else (angle.of, angle.pier_side)].append(member)
    parts: list[list[Member]] = []
    for key, group in sorted(groups.items(), key=lambda item: repr(item[0])):
        if key is None:
            parts.append(group)
            continue
        ordered = sorted(group, key=lambda m: (_deg(m), m.frame_id))
        gaps = [
            i
            for i in range(len(ordered))
            if circular_difference(_deg(ordered[i]), _deg(ordered[i - 1])) % 360.0 > ANGLE_SPLIT_DEG
        ]
        if not gaps:
            parts.append(ordered)
            continue
        turned = ordered[gaps[0] :] + ordered[: gaps[0]]
        starts = [gap - gaps[0] for gap in gaps] + [len(ordered)]
        parts += [turned[a:b] for a, b in zip(starts[:-1], starts[1:], strict=True)]
    return parts


def _split_by_temperature(members: list[Member]) -> list[list[Member]]:
    """Split frames whose sensor was not held: no set spans more than `DRIFT_SPLIT_C`."""
    if held(members[0].facts):
        return [members]
    groups: dict[bool, list[Member]] = {True: [], False: []}
    for member in members:
        groups[member.facts.sensor_temp_c is not None].append(member)
    parts = [groups[False]] if groups[False] else []
    start: float | None = None
    for member in sorted(groups[True], key=lambda m: (m.facts.sensor_temp_c or 0.0, m.frame_id)):
        temp = member.facts.sensor_temp_c or 0.0
        if start is None or temp - start > DRIFT_SPLIT_C:
            parts.append([])
            start = temp
        parts[-1].append(member)
    return parts


def _split_by_hand_timing(members: list[Member]) -> list[list[Member]]:
    """Split long exposures of cameras without a set point: no set spans more than `TIMED_ALIKE`."""
    if not may_be_timed_by_hand(members[0].facts):
        return [members]
    parts: list[list[Member]] = []
    shortest_s = 0.0
    for member in sorted(members, key=lambda m: (m.facts.exposure_s or 0.0, m.frame_id)):
        exposure_s = nominal_exposure(member.facts.exposure_s or 0.0)
        if not parts or exposure_s > shortest_s * (1.0 + TIMED_ALIKE):
            parts.append([])
            shortest_s = exposure_s
        parts[-1].append(member)
    return parts


def _split_by_focal_length(members: list[Member]) -> list[list[Member]]:
    """Split where neighbours in focal length are more than `FOCAL_SPLIT` apart; unknown ones are one part."""
    return _split_where_apart(members, lambda m: m.facts.focal_length_mm, FOCAL_SPLIT)


def _split_by_stop(members: list[Member]) -> list[list[Member]]:
    """Split frames of a lens where it was stopped down."""
    return _split_where_apart(members, lambda m: m.facts.lens_stop, STOPS_APART)


def _split_where_apart(
    members: list[Member], told: Callable[[Member], float | None], share: float
) -> list[list[Member]]:
    parts: list[list[Member]] = []
    before: float | None = None
    for member in sorted(members, key=lambda m: (told(m) or 0.0, m.frame_id)):
        value = told(member) or 0.0
        if before is None or value - before > share * before:
            parts.append([])
        parts[-1].append(member)
        before = value
    return parts


def may_pass_noon(facts: FrameFacts) -> bool:
    """Whether frames of its kind are also shot by day, and over noon, where by the calendar one night ends and another begins.

    A person's word for the night stands.
    """
    told = facts.night is not None and facts.night_before is None and "night" not in facts.said
    return told and facts.kind is not FrameKind.LIGHT and not facts.is_master


def goes_on(last: FrameFacts, then: FrameFacts) -> bool:
    """Whether a frame was shot in one go with the last one of the night before."""
    if last.utc is None or then.utc is None or not (may_pass_noon(last) and may_pass_noon(then)):
        return False
    assert last.night is not None and then.night is not None
    over = last.utc + timedelta(seconds=last.exposure_s or 0.0) + IN_ONE_GO
    return (then.night - last.night).days == 1 and then.utc <= over


def _split_by_night(members: list[Member]) -> list[list[Member]]:
    """Frames of each night; those shot in one go over noon stay together."""
    nights: dict[date | None, list[Member]] = defaultdict(list)
    for member in members:
        nights[member.facts.night].append(member)
    parts = [nights.pop(None)] if None in nights else []
    before: Member | None = None
    for _, of_night in sorted(nights.items(), key=lambda item: item[0] or date.min):
        dated = sorted((m for m in of_night if m.facts.utc is not None), key=_moment)
        if before is not None and dated and goes_on(before.facts, dated[0].facts):
            parts[-1] += of_night
        else:
            parts.append(of_night)
        before = dated[-1] if dated else None
    return parts


def _split_by_telescope(members: list[Member]) -> list[list[Member]]:
    """Frames behind a cap that name different telescopes: they may be of two cameras of one name."""
    if len({m.facts.telescope for m in members if m.facts.telescope}) < 2:
        return [members]
    parts: dict[str, list[Member]] = defaultdict(list)
    for member in members:
        parts[member.facts.telescope or ""].append(member)
    return [parts[name] for name in sorted(parts)]


def _moment(member: Member) -> tuple[datetime, int]:
    assert member.facts.utc is not None
    return member.facts.utc, member.frame_id


def _split_by_exposure(members: list[Member]) -> list[list[Member]]:
    """Flats of each exposure; those of one twilight, which follow the light, stay together."""
    if members[0].facts.of_sky:
        return [members]
    known = [
        (utc, nominal_exposure(exposure_s), member)
        for member in members
        if (utc := member.facts.utc) is not None and (exposure_s := member.facts.exposure_s) is not None
    ]
    parts: list[list[Member]] = []
    for places in in_one_go([flat[:2] for flat in known]):
        if follows_the_light([known[place][:2] for place in places]):
            parts.append([known[place][2] for place in places])
    together = {m.frame_id for part in parts for m in part}
    steady: dict[float | None, list[Member]] = defaultdict(list)
    for member in members:
        if member.frame_id not in together:
            exposure_s = member.facts.exposure_s
            steady[None if exposure_s is None else nominal_exposure(exposure_s)].append(member)
    return [*parts, *(steady[e] for e in sorted(steady, key=lambda e: (e is None, e)))]


def _deg(member: Member) -> float:
    assert member.facts.angle is not None
    return member.facts.angle.deg


def _splits(kind: FrameKind | None) -> list[Callable[[list[Member]], list[list[Member]]]]:
    """What frames of a kind are split by, one after the other."""
    splits: list[Callable[[list[Member]], list[list[Member]]]] = [_split_by_hand_timing, _split_by_night]
    if kind in _BY_TEMPERATURE:
        splits += [_split_by_temperature]
    if kind not in (FrameKind.FLAT, FrameKind.LIGHT):
        splits += [_split_by_telescope]
    else:
        splits += [_split_by_focal_length, _split_by_stop, _split_by_angle]
    if kind is FrameKind.FLAT:
        splits += [_split_by_exposure]
    return splits


def group_into_sets(members: Iterable[Member]) -> list[list[Member]]:
    """Group frames into sets, the same way whatever order they come in.

    Masters are never grouped: each is a set of its own. Lights are split where the camera was turned or the
    focal length changed, and so are flats; the other kinds do not care. Flats of one twilight are one set, though each
    has an exposure of its own; frames that were shot in one go over noon are one set, though of two nights.
    """
    by_key: dict[tuple[Hashable, ...], list[Member]] = defaultdict(list)
    alone: list[list[Member]] = []
    for member in members:
        if member.facts.is_master:
            alone.append([member])
        else:
            of_night = not may_pass_noon(member.facts)
            by_key[set_key(member.facts, of_night=of_night)].append(member)
    sets: list[list[Member]] = []
    for key in sorted(by_key, key=repr):
        group = by_key[key]
        parts = [group]
        for split in _splits(group[0].facts.kind):
            parts = [part for before in parts for part in split(before)]
        sets += parts
    return [sorted(s, key=lambda m: m.frame_id) for s in sets + alone]


def _exposures_differ(members: Sequence[FrameFacts]) -> bool:
    return len({None if m.exposure_s is None else nominal_exposure(m.exposure_s) for m in members}) > 1


def _meant_exposure(members: Sequence[FrameFacts], *, of_sky: bool) -> float | None:
    """The exposure of a set: the typical one where each has its own, in s."""
    if of_sky:
        return _typical([m.exposure_s for m in members])
    if may_be_timed_by_hand(members[0]) and _exposures_differ(members):
        # One that was taken, and none between two.
        return median_low([m.exposure_s for m in members if m.exposure_s is not None])
    return members[0].exposure_s


def common_facts(members: Sequence[FrameFacts]) -> FrameFacts:
    """The facts of a set: those of its first frame, with the typical temperature, angle and focus, and its first night.

    The exposure of a set that was timed by hand is the typical one. That of flats of the sky, which differs from frame to frame, is the typical one too; where their headers do not
    say that they are of the sky, it is that which tells.
    """
    first = members[0]
    of_sky = first.of_sky or (first.kind is FrameKind.FLAT and _exposures_differ(members))
    temps = [m.sensor_temp_c for m in members if m.sensor_temp_c is not None]
    return replace(
        first,
        # Spellings are their frames' own, and so is what was read before a person said otherwise.
        as_written={},
        said={},
        as_read={},
        origins={what: origin for m in members for what, origin in m.origins.items()},
        focal_length_mm=_typical([m.focal_length_mm for m in members]),
        temp_range_c=round(max(temps) - min(temps), 2) if temps else 0.0,
        exposure_s=_meant_exposure(members, of_sky=of_sky),
        of_sky=of_sky,
        sensor_temp_c=_typical(temps),
        focus=_typical([m.focus for m in members]),
        angle=_typical_angle([m.angle for m in members if m.angle is not None]),
        utc=max((m.utc for m in members if m.utc is not None), default=None),
        night=min((m.night for m in members if m.night is not None), default=None),
    )


def _typical(values: Sequence[float | None]) -> float | None:
    known = [v for v in values if v is not None]
    return median(known) if known else None


def _typical_angle(angles: Sequence[CameraAngle]) -> CameraAngle | None:
    if not angles:
        return None
    return CameraAngle(circular_mean([a.deg for a in angles]), angles[0].of, angles[0].pier_side)
