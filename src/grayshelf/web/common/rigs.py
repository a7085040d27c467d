"""What of a rig every page shows."""

from __future__ import annotations

from grayshelf.library.models import Rig


def passbands(rig: Rig) -> dict[str, float | None]:
    """Centre of each filter's passband."""
    return {f.code: f.passband_nm for f in rig.filters}
