"""What becomes of a cooled sensor once a run needs it cold no more."""

from __future__ import annotations

from enum import StrEnum


class SensorThen(StrEnum):
    """Kept at its set point, or brought to the air's temperature little by little."""

    KEPT_COLD = "kept cold"
    AFTER_DARKS = "warmed after the darks"
    AT_THE_END = "warmed at the end"
