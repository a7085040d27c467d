"""Which of the diffusers at hand help, and by how much."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from typing import NamedTuple

from grayshelf.core.flats.model import NoAnswer

#: A diffuser may fall short of what is needed by this much: the tolerance takes it up.
SLACK_STOPS = 0.1
#: So much more than needed lets a panel leave its lowest, coarse steps (common practice).
ROOM_STOPS = 1.0


@dataclass(frozen=True)
class Diffuser:
    """Something that hangs before the source and takes light."""

    name: str
    stops: float


@dataclass(frozen=True)
class StackAdvice:
    """What to hang, and what is left over or missing."""

    names: tuple[str, ...]
    stops: float
    """Of all that hangs then."""
    short_by: float
    """Stops that are still missing; 0 where it does."""
    sentence: str


def stops_of(names: Sequence[str], known: Sequence[Diffuser]) -> float:
    """How much a stack takes, in stops: the sum of its pieces. A diffuser that is not known takes nothing."""
    return sum(d.stops for d in known if d.name in names)


def listed(names: Sequence[str]) -> str:
    """A stack in words: 'nothing', 'white cloth', 'white cloth, thick cloth and neutral film'."""
    if len(names) < 2:
        return names[0] if names else "nothing"
    return f"{', '.join(names[:-1])} and {names[-1]}"


def advise(
    no: NoAnswer, hanging: Sequence[str], known: Sequence[Diffuser], *, dims: bool = False
) -> StackAdvice | None:
    """What the known diffusers can do about a light that is too bright or too dim; None where they have no say.

    The smallest stack that is enough is taken, and the one of fewer pieces among equals.

    Parameters
    ----------
    dims
        The brightness is looked for: near its lowest the steps of a panel are coarse, so a stack is preferred
        that leaves it room to be brighter. More of it also helps where the steps are too coarse.
    """
    if no.direction == "too coarse" and dims:
        no = replace(no, direction="too bright", stops=0.0)
    now, totals = stops_of(hanging, known), _stacks(known)
    if no.direction == "too bright" and known:
        return _take_more(now + no.stops, totals, roomy=dims)
    if no.direction == "too dim" and hanging:
        return _take_less(now - no.stops, totals, hanging)
    return None


class _Stack(NamedTuple):
    stops: float
    names: tuple[str, ...]


def _stacks(known: Sequence[Diffuser]) -> list[_Stack]:
    """Every stack that can be hung, the one that takes least first, and the one of fewer pieces among equals."""
    stacks = [c for n in range(len(known) + 1) for c in combinations(known, n)]
    stacks.sort(key=lambda c: (sum(d.stops for d in c), len(c)))
    return [_Stack(sum(d.stops for d in c), tuple(d.name for d in c)) for c in stacks]


def _take_more(needed: float, stacks: Sequence[_Stack], *, roomy: bool) -> StackAdvice:
    """What to hang where the light is too bright."""
    enough = [s for s in stacks if s.stops >= needed - SLACK_STOPS]
    if roomy:
        room = (needed + ROOM_STOPS, needed + 3.0 * ROOM_STOPS)
        enough = [s for s in stacks if room[0] <= s.stops <= room[1]] or enough
    if enough:
        stops, names = enough[0]
        return StackAdvice(names, stops, 0.0, f"Hang {listed(names)}: {stops:.1f} stops.")
    stops, names = stacks[-1]
    short = max(needed - stops, 0.0)
    sentence = (
        f"All of {listed(names)} take {stops:.1f} stops, {short:.1f} too few: "
        "permit shorter exposures, or find a denser cloth."
    )
    return StackAdvice(names, stops, short, sentence)


def _take_less(needed: float, stacks: Sequence[_Stack], hanging: Sequence[str]) -> StackAdvice:
    """What to leave where the light is too dim."""
    enough = [s for s in stacks if s.stops <= needed + SLACK_STOPS]
    stops, names = enough[-1] if enough else stacks[0]
    if not enough:
        short = max(stops - needed, 0.0)
        sentence = f"Even with nothing before it {short:.1f} stops are missing: permit longer exposures."
        return StackAdvice(names, stops, short, sentence)
    left = f"leave {listed(names)}" if names else "take all of it off"
    return StackAdvice(names, stops, 0.0, f"Too dim behind {listed(tuple(hanging))}: {left}.")
