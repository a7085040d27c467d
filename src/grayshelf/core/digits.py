"""Numbers as people read them."""

from __future__ import annotations

import math

THIN = "\u2009"


def significant(value: float, digits: int) -> str:
    """A number to so many digits that count, never in powers of ten: '0.31', '140', '−2,100'."""
    if value == 0 or not math.isfinite(value):
        return f"{abs(value):g}"
    after_the_point = digits - 1 - math.floor(math.log10(abs(value)))
    text = f"{round(value, after_the_point):,.{max(after_the_point, 0)}f}"
    return (text.rstrip("0").rstrip(".") if "." in text else text).replace("-", "−")


def stop(focal_ratio: float) -> str:
    """Of a lens: 'f/2.8', 'f/11'."""
    return f"f/{focal_ratio:.2g}"


def seconds(value: float) -> str:
    """An exposure: '300 s', '0.78 s', '1/60 s' for the shortest."""
    if 0 < value < 0.02:
        return f"1/{round(1 / value)}{THIN}s"
    digits = max(4, len(str(int(value))))
    return f"{significant(value, digits).replace(',', '')}{THIN}s"


def file_size(count: float) -> str:
    """Bytes: '1.2 GB', '340 MB', '24 kB'; nothing is '0 MB'."""
    if 0 < count < 1e6:
        return f"{max(count / 1e3, 1):.0f}{THIN}kB"
    return f"{count / 1e9:.1f}{THIN}GB" if count >= 1e9 else f"{count / 1e6:.0f}{THIN}MB"


def named(count: int, one: str, many: str | None = None) -> str:
    """What so many are called: 'light', 'lights', 'bias'."""
    same = count == 1 or (many is None and one.endswith("bias"))
    return one if same else many or one + "s"


def several(count: int, one: str, many: str | None = None) -> str:
    """'1 light', '34 lights', '8 bias'."""
    return f"{count:,} {named(count, one, many)}"
