"""Which sets could not be combined, and why: each reason once, with the sets that it holds for."""

from __future__ import annotations

from collections.abc import Sequence

from grayshelf.core.digits import seconds, several
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.models import FrameSet

#: So many sets are named with a reason; of more, how many they are.
MOST_NAMED = 6


def set_name(row: FrameSet) -> str:
    """A set in few words: 'flat L, 2 s, 7 Nov 26'."""
    facts = facts_if_sound(row.facts)
    parts = [
        f"{row.kind} {facts.filter_code}" if facts and facts.filter_code else row.kind,
        seconds(facts.exposure_s) if facts and facts.exposure_s else "",
        f"{row.night:%-d %b %y}" if row.night else "",
    ]
    return ", ".join(part for part in parts if part)


def told_once(failed: Sequence[tuple[str, str]]) -> tuple[str, ...]:
    """The reasons, each behind the name of its set, with all that share one in one sentence."""
    by_reason: dict[str, list[str]] = {}
    for name, reason in failed:
        by_reason.setdefault(reason, []).append(name)
    return tuple(f"{_named(names)}: {reason}" for reason, names in by_reason.items())


def _named(names: list[str]) -> str:
    more = len(names) - MOST_NAMED
    told = "; ".join(names[:MOST_NAMED])
    text = f"{told}; and {several(more, 'more set')}" if more > 0 else told
    return text[:1].upper() + text[1:]
