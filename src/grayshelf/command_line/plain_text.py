"""What is said in a terminal or a log that does not know every sign: the nearest plain one stands for it."""

from __future__ import annotations

import codecs
import io
from typing import TextIO

#: A minus must not be lost where its sign is not known: '−10 °C' is '-10 C' there.
PLAIN = {
    "−": "-", "⁻": "-", "–": "-", "\u2009": " ", "\u202f": " ", "\xa0": " ", "’": "'", "‘": "'", "“": '"', "”": '"',
    "′": "'", "″": '"', "×": "x", "…": "...", "→": "->", "≈": "~", "±": "+-", "°": "", "µ": "u",
}  # fmt: skip


def _nearest(error: UnicodeError) -> tuple[str, int]:
    if not isinstance(error, UnicodeEncodeError):
        raise error
    signs = error.object[error.start : error.end]
    return "".join(PLAIN.get(sign, "?") for sign in signs), error.end


codecs.register_error("nearest plain sign", _nearest)


def say_in_plain_signs(*streams: TextIO | None) -> None:
    """Let these streams never fail for a sign that they do not know."""
    for stream in streams:
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="nearest plain sign")


def knows_all_signs(stream: TextIO | None) -> bool:
    """Whether a stream can write every sign as it is."""
    return (getattr(stream, "encoding", None) or "").lower().replace("-", "").startswith("utf")
