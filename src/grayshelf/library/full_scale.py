"""What one unit of a frame's file is in ADU: pictures of other programs may be shares of the full scale."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.frames.fits_blocks import ImageHeader, card_value
from grayshelf.core.frames.folder_names import folders_above
from grayshelf.core.frames.full_scale import FULL_SCALE_ADU, are_shares
from grayshelf.core.frames.headers import kind_of
from grayshelf.library.files import KEPT_AS, scaled, scaling_of

#: Under what is kept with a master that its file holds shares.
SHARES = "shares"
#: Rows about the middle of a frame that are looked at.
_LOOKED_AT = 32


def adu_of_one(path: Path, image: ImageHeader, pixels: NDArray[Any] | None = None) -> float:
    """1, or `FULL_SCALE_ADU` where the values of a file are shares of that.

    Parameters
    ----------
    pixels
        All of them, shape (height, width), where the file is packed.
    """
    # Whole numbers are levels, and what was combined here is in ADU.
    if image.bits > 0 or card_value(image.header, "GSDIGEST") is not None:
        return 1.0
    kind = kind_of(image, path.name, folders_above(path))
    if kind is None:
        return 1.0
    first = max(image.height // 2 - _LOOKED_AT // 2, 0)
    last = min(first + _LOOKED_AT, image.height)
    rows = _rows(path, image, first, last) if pixels is None else pixels[first:last]
    return FULL_SCALE_ADU if are_shares(kind, rows) else 1.0


def _rows(path: Path, image: ImageHeader, first: int, last: int) -> NDArray[np.float32]:
    dtype = np.dtype(KEPT_AS[image.bits])
    start, count = first * image.width, (last - first) * image.width
    try:
        raw = np.fromfile(path, dtype, count, offset=image.data_offset + start * dtype.itemsize)
    except OSError:
        # Whoever reads its pixels says what is in the way.
        return np.zeros(0, np.float32)
    return scaled(raw, (scaling_of(image, "BSCALE", 1.0), scaling_of(image, "BZERO", 0.0)))
