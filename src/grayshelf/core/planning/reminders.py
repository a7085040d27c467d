"""A person's own reminders: what they want to be told at a gate ('heater off', 'dome shut'), or at the end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.planning.gates import Gate
from grayshelf.core.planning.sheet import RunSheet

#: Where a reminder can stand, in the order of a night, and how that is said.
WHEN = {
    "panel": "when the light goes on",
    "diffuser": "when diffusers change",
    "cap": "when the cap goes on",
    "end": "at the end",
}
#: More, or longer ones, are read by nobody.
MOST, LONGEST = 20, 120


@dataclass(frozen=True)
class Reminder:
    """One thing not to be forgotten."""

    when: str
    """One of `WHEN`."""
    text: str


def checked(reminders: Sequence[Reminder]) -> tuple[Reminder, ...]:
    """The reminders as they are kept, in the order of a night, none twice.

    Raises
    ------
    GrayShelfError
        Where one is empty, too long, or of no gate.
    """
    if len(reminders) > MOST:
        raise GrayShelfError(f"{MOST} reminders are kept at most.", "Take one out first.")
    told = []
    for one in reminders:
        text = " ".join(one.text.split())
        if one.when not in WHEN:
            raise GrayShelfError(f"There is no gate ‘{one.when}’ to be reminded at.")
        if not 0 < len(text) <= LONGEST:
            raise GrayShelfError(f"A reminder has 1 to {LONGEST} letters.", "Say it in a few words.")
        told.append(Reminder(one.when, text))
    order = list(WHEN)
    return tuple(sorted(dict.fromkeys(told), key=lambda one: order.index(one.when)))


def of_gate(reminders: Sequence[Reminder], when: str) -> tuple[str, ...]:
    """What is to be told there."""
    return tuple(one.text for one in reminders if one.when == when)


def with_reminders(sheet: RunSheet, reminders: Sequence[Reminder]) -> RunSheet:
    """The sheet with what a person wants to be told at its gates."""
    steps = (s if s.gate is None else replace(s, gate=reminded(s.gate, reminders)) for s in sheet.steps)
    return replace(sheet, steps=tuple(steps))


def reminded(gate: Gate, reminders: Sequence[Reminder]) -> Gate:
    """The gate with what a person wants to be told at it."""
    told = of_gate(reminders, gate.sign)
    if not told:
        return gate
    advice = ". ".join(part for part in (gate.advice.rstrip("."), *told) if part)
    # The board over a gate has room for the few words alone: there they come first.
    brief = "; ".join(part for part in (*told, gate.brief) if part)
    return replace(gate, advice=advice, brief=brief)
