"""What a header says was done to a frame before (CALSTAT): letters for bias, dark and flat, or words. Common practice, no source."""

from __future__ import annotations

import re

from grayshelf.core.frames.kinds import FrameKind

_NOTHING = ("", "NONE", "NO", "FALSE", "RAW")
#: Letters that programs put together: bias, dark, flat, and others for cosmetics, masks and trimming.
_LETTERS = re.compile(r"[BDFCMNTOPRSZ ,+/]*")


def was_calibrated(kind: FrameKind | None, text: str | None) -> bool:
    """Whether what is to be taken off by frames of its kind was taken off already.

    Parameters
    ----------
    text
        Of CALSTAT, as it is written.

    Returns
    -------
    Of a light: whether anything was done to it. Of a flat: whether its pedestal is off. Of a dark or dark flat: whether
    a bias is, so that it takes no pedestal off any more.
    """
    told = (text or "").strip().upper()
    if told in _NOTHING:
        return False
    words = set(re.findall(r"[A-Z]+", told))
    letters = set(told) if _LETTERS.fullmatch(told) else set()
    bias, dark = "B" in letters or "BIAS" in words, "D" in letters or "DARK" in words
    if kind is FrameKind.FLAT:
        return bias or dark
    return bias if kind in (FrameKind.DARK, FrameKind.DARK_FLAT) else kind is not FrameKind.BIAS
