"""How far every file of the library was read against what it was."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Verified:
    """What came of it so far; written down, so that it goes on from there."""

    after: int = 0
    """The number of the last frame that was read."""
    read: int = 0
    same: int = 0
    first: int = 0
    """Read whole for the first time: what they are is known from now on."""
    changed: int = 0
    gone: int = 0
    wrong: tuple[str, ...] = ()
    """What is wrong with files, a sentence each."""
