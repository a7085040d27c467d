"""Whether flats that came later still lie where a setting said they would."""

from __future__ import annotations

from dataclasses import dataclass

from grayshelf.core.flats.settings import RowKey
from grayshelf.core.frames.facts import FrameFacts

#: A setting's exposure and that of flats shot with it are the same within this share.
SAME_EXPOSURE = 0.02


@dataclass(frozen=True)
class Drift:
    """What flats shot with a setting measured, against what it promised."""

    measured_adu: float
    expected_adu: float
    when: str

    @property
    def off_adu(self) -> float:
        """How far the flats came out from what was expected."""
        return self.measured_adu - self.expected_adu


def shot_with(facts: FrameFacts, key: RowKey, exposure_s: float) -> bool:
    """Whether flats are of a row and of a setting's exposure, by their facts.

    Cameras with an ISO dial tell no offset. Flats of the sky have exposures of their own and are never a setting's.
    """
    code, offset = facts.filter_code or "none", facts.offset or 0.0
    if RowKey(code, facts.gain or 0.0, offset, facts.binning_x or 1) != key or facts.of_sky:
        return False
    return abs((facts.exposure_s or 0.0) / exposure_s - 1.0) <= SAME_EXPOSURE
