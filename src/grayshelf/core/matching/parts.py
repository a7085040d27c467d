"""What no header tells of a rig, and is asked of the person once: is a part there, and does it move?"""

from __future__ import annotations

from collections.abc import Iterable

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.model import (
    BIAS_WILL_DO,
    Candidate,
    CommonSettings,
    PartQuestion,
    RigSays,
    SlipLine,
    Verdict,
)

#: What can be asked, most telling first: the question, and the words of the two answers.
_QUESTIONS: dict[str, tuple[str, str, str]] = {
    "filter": (
        "No frame here names a filter. Is it always the same one, or none?",
        "Always the same, or none",
        "It is changed",
    ),
    "telescope": (
        "No frame here names a telescope. Is the camera always on the same one?",
        "Always the same telescope",
        "It is moved between telescopes",
    ),
    "focal length": (
        "No frame here gives a focal length. Is the same reducer (or none) always in?",
        "Always the same",
        "It is changed",
    ),
    "gain": (
        "No frame here says its gain. Does this camera have a gain to set?",
        "It has none, or it is never changed",
        "It is changed",
    ),
    "offset": (
        "No frame here says its offset. Does this camera have an offset to set?",
        "It has none, or it is never changed",
        "It is changed",
    ),
    "binning": ("No frame here says its binning. Is this camera ever binned?", "Never", "Sometimes"),
    "temperature": (
        "No frame here says how warm the sensor was. Does this camera measure it?",
        "It has no thermometer",
        "It does, the frames only lack it",
    ),
    "angle": (
        "No frame here says at what angle the camera sat. Is it ever turned?",
        "Never turned",
        "It is turned",
    ),
    "focus": (
        "No frame here says where the focuser was. Does the focus stay as it is between lights and flats?",
        "It stays as it is",
        "It is moved",
    ),
}
ASKABLE = tuple(_QUESTIONS)
_DARK_FLAT = (
    "No dark flat fits this flat. Will a bias do in its place on this rig?",
    "A bias will do",
    "Dark flats are to be shot",
)
_ONE_TRAIN = (
    "The headers name another telescope or focal length than the lights’. Is it the same train in truth?",
    "All frames of this rig are of one train",
    "They are of several trains",
)
_TRAIN = ("telescope", "focal length")


def answered(quantity: str, says: str) -> str:
    """What was said of a quantity, in words: 'angle: never turned'; empty where the answer is not known here."""
    known = _QUESTIONS.get(quantity) or (_DARK_FLAT if quantity == BIAS_WILL_DO else None)
    if known is None or says not in ("fixed", "moves"):
        return ""
    answer = known[1] if says == "fixed" else known[2]
    return f"{quantity}: {answer[0].lower()}{answer[1:]}"


def _unknown_to_both(candidate: Candidate) -> list[str]:
    return [r.quantity for r in candidate.rulers if r.unknown and r.wanted is None and r.measured is None]


def _lost_by_the_train_alone(line: SlipLine) -> bool:
    if line.verdict is not Verdict.NOTHING or not line.runners_up:
        return False
    nearest = line.runners_up[0]
    outside = {r.quantity for r in nearest.rulers if r.decides and not r.inside and not r.unknown}
    return bool(outside) and outside <= set(_TRAIN) and len(nearest.reasons) == len(outside)


#: What frames cannot be shot without, by what is missing.
_NEEDED_TO_SHOOT = {FrameKind.DARK: ("gain", "offset", "temperature"), FrameKind.FLAT: ("gain", "offset")}


def _lights_lack(want: CommonSettings, kind: FrameKind) -> list[str]:
    values = {"gain": want.gain, "offset": want.offset, "temperature": want.sensor_temp_c}
    return [q for q in _NEEDED_TO_SHOOT.get(kind, ()) if values[q] is None]


def questions(
    want: CommonSettings, lines: Iterable[SlipLine], says: RigSays, *, bias_at_hand: bool
) -> tuple[PartQuestion, ...]:
    """What to ask of the person, so that what no frame tells need not ask for care for ever.

    `bias_at_hand` says whether a bias fits the flat, and could stand in for a missing dark flat. Only what neither the lights nor the frames chosen for them say is asked, and only where nobody has answered.
    """
    lines = list(lines)
    answered_already = says.fixed | says.moves
    open_ones = {q for line in lines if line.chosen is not None for q in _unknown_to_both(line.chosen)}
    # Where nothing is there to compare with, what must be known to shoot it.
    open_ones |= {q for line in lines if _missing(line) for q in _lights_lack(want, line.kind)}
    asked = [PartQuestion(q, *_QUESTIONS[q]) for q in ASKABLE if q in open_ones and q not in answered_already]
    if "telescope" not in answered_already and any(_lost_by_the_train_alone(line) for line in lines):
        asked.append(PartQuestion("telescope", *_ONE_TRAIN))
    missing = any(line.kind is FrameKind.DARK_FLAT and _missing(line) for line in lines)
    if missing and BIAS_WILL_DO not in answered_already and bias_at_hand:
        asked.append(PartQuestion(BIAS_WILL_DO, *_DARK_FLAT))
    return tuple(asked)


def _missing(line: SlipLine) -> bool:
    return line.verdict is Verdict.NOTHING and line.waits_for is None
