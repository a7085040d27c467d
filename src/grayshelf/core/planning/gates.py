"""Gates: what a hand has to do before work goes on, and the words in which it is asked. A gate has no default."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from grayshelf.core.flats.filter_words import NO_FILTER
from grayshelf.core.flats.panel.diffusers import listed
from grayshelf.core.flats.timed_light import Lit

BY_HAND = "by hand"
#: The sign of a gate at which a device does not go on.
TROUBLE = "trouble"


class LightKind(StrEnum):
    """What a light is: each is made ready in another way."""

    PANEL = "panel"
    TABLET = "tablet"
    WALL = "wall"


#: How each is asked for: what has to be so, and what else to see to (common practice).
_MADE_READY = {
    LightKind.PANEL: ("Panel on", "Aim the telescope at it", "The panel is on: begin"),
    LightKind.TABLET: (
        "Tablet before the telescope",
        "Show plain white on it, with automatic brightness, night colours and sleep off",
        "The tablet is lit: begin",
    ),
    LightKind.WALL: (
        "Wall lit",
        "Aim the telescope at it; no lamp, and nobody’s shadow, in its field",
        "The wall is lit: begin",
    ),
}


@dataclass(frozen=True)
class Gate:
    """One thing for a hand to do."""

    sign: str
    """What it is about: 'panel', 'diffuser', 'cap', 'cover', 'filter', 'brightness', 'focus' 'sky' or 'trouble'."""
    title: str
    advice: str = ""
    answer: str = "Go on"
    """The words of the button by which the person says that it is done."""
    stack: tuple[str, ...] = ()
    """Where diffusers are changed: all that hang then, and what they take together, in stops."""
    total_stops: float | None = None
    value: str = ""
    """Where something is set by hand: what to."""
    can_leave_out: bool = False
    """Whether what waits behind it may be left out instead."""
    needs_person: bool = True
    brief: str = ""
    """The advice in a few words, for a board."""


def panel_on(*, dimmable: bool, angle_deg: float | None, kind: LightKind = LightKind.PANEL) -> Gate:
    """The light before the telescope, at the beginning of flats; `angle_deg` where a hand has to keep the camera's."""
    title, ready, answer = _MADE_READY[kind]
    how = "its brightness is set for you" if dimmable else "switch it on"
    turned = f" Leave the camera at {angle_deg:.1f}°, as the lights had it." if angle_deg is not None else ""
    return Gate("panel", title, f"{ready}; {how}.{turned}", answer, brief=f"aim at it; {how}")


def light_in_place(light: str, *, dimmable: bool, kind: LightKind = LightKind.PANEL) -> Gate:
    """A light before the telescope, at the beginning of a search."""
    advice = "Aim the telescope at it, with nothing in between."
    if kind is not LightKind.PANEL:
        advice = f"{_MADE_READY[kind][1]}; nothing in between."
    advice += " Its brightness is set for you." if dimmable else ""
    return Gate("panel", f"{light[0].upper()}{light[1:]} before the telescope", advice, "It is there: begin")


def panel_warm(*, by_hand: bool) -> Gate:
    """The panel before the telescope, to measure a camera with."""
    advice = (
        "Cap off, nothing else lit; the panel warm for some minutes, since a drift of the light looks like a bend of "
        "the sensor."
    )
    advice += " Set it to a fixed, dim light and leave it." if by_hand else ""
    return Gate("panel", "Put the panel before the telescope", advice, "The panel is before it")


def hang(
    light: str, stack: Sequence[str], total_stops: float, then: str = "go on", *, can_leave_out: bool = False
) -> Gate:
    """Diffusers hung before a light, or taken off; `then` follows."""
    words = listed(stack)
    return Gate(
        "diffuser",
        f"Hang {words}" if stack else "Take the diffusers off",
        f"Before {light}: {words}, and nothing else." if stack else f"Nothing hangs before {light} then.",
        f"{words[0].upper()}{words[1:]} {'hangs' if len(stack) == 1 else 'hang'}: {then}"
        if stack
        else "They are off: go on",
        tuple(stack),
        total_stops,
        can_leave_out=can_leave_out,
        brief=f"before {light}" if stack else "nothing before the light",
    )


def dim_for(filter_code: str, advice: str, stack: Sequence[str], total_stops: float) -> Gate:
    """Something hung before a light that was too bright for one filter, which is then tried again."""
    return Gate(
        "diffuser",
        "A diffuser" if filter_code == NO_FILTER else f"Diffuser for {filter_code}",
        advice,
        "It hangs: try again" if filter_code == NO_FILTER else f"It hangs: try {filter_code} again",
        tuple(stack),
        total_stops,
        can_leave_out=True,
        brief="hang it before the panel",
    )


def filter_in(filter_code: str, advice: str) -> Gate:
    """A filter that no wheel brings in."""
    bare = filter_code == NO_FILTER
    title = "The filter out" if bare else f"{filter_code} in"
    answer = "It is out: go on" if bare else f"{filter_code} is in: go on"
    return Gate("filter", title, advice, answer, value=filter_code, brief=BY_HAND)


def brightness_to(light: str, brightness: int | None, advice: str, lit: Lit | None = None) -> Gate:
    """A brightness, or a time of light within the exposure, that no device sets."""
    value = set_to(brightness, lit)
    answer = f"It is at {value}: go on" if lit is None else "It is set so: go on"
    return Gate("brightness", f"Set {light} to {value}", advice, answer, value=value, brief=BY_HAND)


def set_to(brightness: int | None, lit: Lit | None) -> str:
    """What a light is set to by hand: '20', '20, lit for 0.85 s', 'full light for 0.85 s'."""
    if lit is None:
        return "" if brightness is None else str(brightness)
    seconds = f"{lit.lit_s:g} s, {lit.before_s:g} s after the exposure begins"
    return f"full light for {seconds}" if brightness is None else f"{brightness}, lit for {seconds}"


def focus_to(focus: float, advice: str) -> Gate:
    """A focus that no device sets."""
    return Gate(
        "focus",
        f"Focus to {focus:.0f}",
        advice,
        "The focus is set: go on",
        value=f"{focus:.0f}",
        brief=BY_HAND,
    )


def cap_on(*, dimmable: bool = True) -> Gate:
    """The cap, after flats; `dimmable` where the rig darkens the light by itself."""
    dark = "the panel goes dark by itself" if dimmable else "the light off"
    advice = f"{dark[0].upper()}{dark[1:]}. Keep room light off the tube."
    return Gate("cap", "Cap on", advice, "The cap is on: shoot what needs the dark", brief=dark)


def cap_for_bias() -> Gate:
    """The cap, to measure a camera's pedestal."""
    advice = "Cap on, room dark: any light would look like a pedestal."
    return Gate("cap", "Put the cap on", advice, "The cap is on")


def cover_closes() -> Gate:
    """The cover, where the rig caps itself."""
    return Gate("cover", "The cover closes", needs_person=False)


def faces_panel() -> Gate:
    """A panel on a wall that the mount points at, or a cover that is the panel, too."""
    return Gate("panel", "The telescope faces the panel", needs_person=False)


def device_trouble(what: str, advice: str) -> Gate:
    """A device that did not do what it was told, also when it was told again: what was shot until then is kept."""
    return Gate(TROUBLE, "A device of the rig does not go on", f"{what} {advice}".strip(), "Go on: try again")


def zenith(by_hand: Sequence[str], lights_of: str) -> Gate:
    """The telescope to the zenith for flats of the sky.

    Parameters
    ----------
    by_hand
        What else a hand sets as the lights had it: 'focus at 12,140', ...
    lights_of
        The night of those lights, as in '18 Oct'; empty where it is not known.
    """
    advice = (
        "Near the zenith, on the side away from the sun; panel, cap and cloths off. Let it stand still: "
        "the stars then wander between the frames and are clipped from the master."
    )
    if by_hand:
        night = f" of {lights_of}" if lights_of else ""
        advice += f" As for the lights{night}: {', '.join(by_hand)}."
    return Gate("sky", "The telescope to the zenith", advice, "It stands there: wait for the sky")
