"""Where the slip of lights is found."""

from __future__ import annotations

from grayshelf.library.lights import LightSet
from grayshelf.web.common.schemas import SlipAt


def slip_at(lights: LightSet) -> SlipAt:
    """The night and the number of a light set."""
    return SlipAt(night=lights.row.night, set_id=lights.row.id)
