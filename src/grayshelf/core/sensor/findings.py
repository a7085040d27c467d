"""What a reader of a measurement must know about its frames."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Finding:
    """Something about the frames, what it means, and what to do."""

    message: str
    advice: str
    serious: bool = False
    """Whether the answer is not to be trusted, or is missing, because of it."""
