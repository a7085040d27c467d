"""Which of the diffusers at hand help, and by how much."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations

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
    if no.direction not in ("too bright", "too dim") or (no.direction == "too dim" and not hanging):
        return None
    now = stops_of(hanging, known)
    stacks = [c for n in range(len(known) + 1) for c in combinations(known, n)]
    totals = sorted(
        ((sum(d.stops for d in c), len(c), tuple(d.name for d in c)) for c in stacks), key=lambda t: t[:2]
    )
    if no.direction == "too bright":
        needed = now + no.stops
        roomy = (
            [t for t in totals if needed + ROOM_STOPS <= t[0] <= needed + 3.0 * ROOM_STOPS] if dims else []
        )
        enough = roomy or [t for t in totals if t[0] >= needed - SLACK_STOPS]
        total, _, names = enough[0] if enough else totals[-1]
        short = max(needed - total, 0.0) if not enough else 0.0
        if not known:
            return None
        if short:
            sentence = (
                f"All of {listed(names)} take {total:.1f} stops, {short:.1f} too few: "
                "permit shorter exposures, or find a denser cloth."
            )
        else:
            sentence = f"Hang {listed(names)}: {total:.1f} stops."
        return StackAdvice(names, total, short, sentence)
    needed = now - no.stops
    enough = [t for t in totals if t[0] <= needed + SLACK_STOPS]
    total, _, names = enough[-1] if enough else totals[0]
    short = max(total - needed, 0.0) if not enough else 0.0
    left = f"leave {listed(names)}" if names else "take all of it off"
    sentence = f"Too dim behind {listed(tuple(hanging))}: {left}."
    if short:
        sentence = f"Even with nothing before it {short:.1f} stops are missing: permit longer exposures."
    return StackAdvice(names, total, short, sentence)
