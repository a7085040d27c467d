"""Whether a frame that came in is one that was asked for, and what is wrong with it in a sentence that says what to do."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from grayshelf.core.frames.angle import circular_difference
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind


@dataclass(frozen=True)
class AskedFor:
    """Frames that were asked for. What is None is not asked."""

    camera: str
    filter_code: str
    gain: float | None
    """None, like the offset's, where the lights do not tell theirs."""
    binning: int
    offset: float | None = None
    gain_word: str = "gain"
    """What this camera calls its gain."""
    kind: FrameKind = FrameKind.FLAT
    exposure_s: float | None = None
    exposure_percent: float = 2.0
    temp_c: float | None = None
    temp_within_c: float = 1.0
    angle_deg: float | None = None
    angle_within_deg: float = 1.0
    focus: float | None = None
    focus_within: float = 150.0
    read_mode: str | None = None
    as_lights: bool = True
    """Whether flats are to be as the lights were; else as the exercise asks."""


_KIND_WORDS = {
    FrameKind.LIGHT: "a light",
    FrameKind.DARK: "a dark",
    FrameKind.BIAS: "a bias frame",
    FrameKind.DARK_FLAT: "a dark flat",
    FrameKind.FLAT: "a flat",
}
#: What does for a kind beside itself: programs call dark flats darks.
_DOES_FOR = {FrameKind.DARK_FLAT: (FrameKind.DARK,)}


def why_not(facts: FrameFacts, asked: AskedFor) -> str | None:
    """What is wrong with a frame, in a sentence; None where it is one that was asked for."""
    return next(iter(all_wrong(facts, asked)), None)


def all_wrong(facts: FrameFacts, asked: AskedFor) -> list[str]:
    """All that is wrong with a frame, the worst first, a sentence each.

    What a header does not say is not held against it: frames of many programs say little.
    """
    return [*_of_another_kind(facts, asked), *_otherwise_set(facts, asked), *_elsewhere(facts, asked)]


def _of_another_kind(facts: FrameFacts, asked: AskedFor) -> Iterator[str]:
    wanted = _KIND_WORDS[asked.kind]
    if facts.kind is not None and facts.kind not in (asked.kind, *_DOES_FOR.get(asked.kind, ())):
        yield f"It is {_KIND_WORDS[facts.kind]}, not {wanted}. Take {wanted}."
    if facts.is_master:
        yield f"It is a master, not a fresh frame. Take {wanted}."
    if facts.camera is not None and facts.camera != asked.camera:
        yield f"It was taken with {facts.camera}, not with {asked.camera}."


def _otherwise_set(facts: FrameFacts, asked: AskedFor) -> Iterator[str]:
    word = asked.gain_word
    whose = "the lights have" if asked.kind is FrameKind.FLAT and asked.as_lights else "asked is"
    if not _same_filter(facts, asked):
        yield (
            f"It was taken in {facts.filter_code}; {asked.filter_code} is looked for. Bring {asked.filter_code} in."
        )
    dials: tuple[tuple[str, str, float | str | None, float | str | None], ...] = (
        (f"at {word}", f"the {word}", facts.gain, asked.gain),
        ("at offset", "it", facts.offset, asked.offset),
        ("at binning", "it", facts.binning_x, asked.binning),
        ("in read-out mode", "it", facts.read_mode, asked.read_mode),
    )
    for how, dial, has, wanted in dials:
        if has is not None and wanted is not None and has != wanted:
            yield f"It was taken {how} {_plain(has)}; {whose} {_plain(wanted)}. Set {dial} to {_plain(wanted)}."
    if asked.kind is FrameKind.BIAS:
        return
    if facts.exposure_s is None or facts.exposure_s <= 0:
        yield "Its header does not tell the exposure, so nothing can be drawn from it. Let the program write EXPTIME."
    elif (
        asked.exposure_s is not None
        and _off_percent(facts.exposure_s, asked.exposure_s) > asked.exposure_percent
    ):
        yield (
            f"It was exposed for {facts.exposure_s:g} s; {asked.exposure_s:g} s is asked for. "
            f"Set {asked.exposure_s:g} s."
        )


def _plain(value: float | str) -> str:
    return value if isinstance(value, str) else f"{value:g}"


def _same_filter(facts: FrameFacts, asked: AskedFor) -> bool:
    optical = asked.kind is FrameKind.FLAT and facts.filter_code is not None
    return not optical or asked.filter_code in ("none", facts.filter_code)


def _off_percent(exposure_s: float, asked_s: float) -> float:
    return 100.0 * abs(exposure_s - asked_s) / asked_s - 1e-9


def _elsewhere(facts: FrameFacts, asked: AskedFor) -> Iterator[str]:
    """What was not where it was for the lights: the sensor's temperature, the camera's angle, the focus."""
    if facts.sensor_temp_c is not None and asked.temp_c is not None:
        off = facts.sensor_temp_c - asked.temp_c
        if abs(off) > asked.temp_within_c + 1e-9:
            yield (
                f"The sensor was at {facts.sensor_temp_c:.1f} °C; {asked.temp_c:.0f} °C is asked for. "
                f"Wait until it is there, or set it to {asked.temp_c:.0f} °C."
            ).replace("-", "−")
    if facts.angle is not None and facts.angle.of == "mechanical" and asked.angle_deg is not None:
        turned = abs(circular_difference(facts.angle.deg, asked.angle_deg))
        if turned > asked.angle_within_deg + 1e-9:
            yield (
                f"The camera sat at {facts.angle.deg:.1f}°; the lights had {asked.angle_deg:.1f}°. "
                f"Turn it to {asked.angle_deg:.1f}°."
            )
    moved = 0.0 if facts.focus is None or asked.focus is None else abs(facts.focus - asked.focus)
    if moved > asked.focus_within + 1e-9:
        yield (
            f"The focus was at {facts.focus:,.0f}; the lights had {asked.focus:,.0f}. "
            f"Bring it to {asked.focus:,.0f}."
        )


def _meant_for_others(facts: FrameFacts, asked: AskedFor) -> int:
    """How much says that a frame was meant for something else: its kind, its camera, its filter."""
    return len(list(_of_another_kind(facts, asked))) + (not _same_filter(facts, asked))


def _far_apart(exposure_s: float | None, asked_s: float | None) -> bool:
    """Whether two exposures (s) are not meant to be the same, by any slip of the hand: one is over twice the other."""
    return exposure_s is not None and asked_s is not None and not 0.5 <= exposure_s / asked_s <= 2.0


@dataclass(frozen=True)
class Serves:
    """Which of several asked-for frames one is: its place among them, or what is wrong with it."""

    place: int | None
    why: str = ""


def which_of(facts: FrameFacts, asked: Sequence[AskedFor]) -> Serves:
    """Which of several asked-for kinds of frames a frame is; the first of them is what is asked for now.

    Frames come late or in batches, so any that is asked for will do. Where it is none of them, it is held against the
    one that it was likely meant for, by its kind, camera and filter, so that what has to be put right is said: of those
    the one of which least is wrong, then one of about its exposure, then the first.
    """
    wrong = [all_wrong(facts, one) for one in asked]
    for place, found in enumerate(wrong):
        if not found:
            return Serves(place)

    def nearness(place: int) -> tuple[int, int, bool, int]:
        one = asked[place]
        far = _far_apart(facts.exposure_s, one.exposure_s)
        return _meant_for_others(facts, one), len(wrong[place]), far, place

    nearest = min(range(len(asked)), key=nearness, default=None)
    return Serves(None, "Nothing is asked for any more." if nearest is None else wrong[nearest][0])
