"""What a gain is called where it is measured."""

from __future__ import annotations

from collections.abc import Sequence

#: Stands for the word, 'gain' or 'ISO', of a camera that has no dial for it: 0 stands for the one that it has.
ONE_GAIN = "its one gain"


def gain_named(word: str, gain: float) -> str:
    """A gain as the camera calls it.

    >>> gain_named("ISO", 800), gain_named(ONE_GAIN, 0)
    ('ISO 800', 'its one gain')
    """
    return ONE_GAIN if word == ONE_GAIN else f"{word} {gain:g}"


def gains_named(word: str, gains: Sequence[float]) -> str:
    """Several, as 'gain 0, 100'."""
    return ONE_GAIN if word == ONE_GAIN else f"{word} {', '.join(f'{g:g}' for g in gains)}"
