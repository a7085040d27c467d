"""Checksums of FITS files (FITS Standard 4.0, 4.4.2.7 and appendix J): ones' complement sums of 32-bit words."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

#: Signs that no checksum may hold: those between the digits and the letters.
_SKIPPED = frozenset(b":;<=>?@[\\]^_`")


def ones_complement_sum(data: bytes | NDArray[Any], so_far: int = 0) -> int:
    """The sum of some data, whose length is a multiple of four bytes, added to that of what lies before it."""
    words = np.frombuffer(data, ">u4") if isinstance(data, bytes) else data.reshape(-1).view(">u4")
    total = so_far + int(words.sum(dtype=np.uint64))
    while total >> 32:
        total = (total & 0xFFFFFFFF) + (total >> 32)
    return total


def encoded(total: int) -> str:
    """The complement of a sum in sixteen letters and digits, so that the whole header and data unit sums up to −0."""
    value = 0xFFFFFFFF - total
    signs = np.zeros((4, 4), np.int64)
    for place in range(4):
        byte = value >> (24 - 8 * place) & 0xFF
        column = np.full(4, byte // 4 + ord("0"))
        column[0] += byte % 4
        # Two by two they are moved apart, which leaves their sum, until none is a forbidden sign.
        while any(int(sign) in _SKIPPED for sign in column):
            for pair in (0, 2):
                if int(column[pair]) in _SKIPPED or int(column[pair + 1]) in _SKIPPED:
                    column[pair] += 1
                    column[pair + 1] -= 1
        signs[:, place] = column
    text = bytes(signs.ravel().astype(np.uint8)).decode("ascii")
    # The value starts in the twelfth column of its card: turned by one place.
    return text[-1] + text[:-1]
