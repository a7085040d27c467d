"""A master dark that is scaled to lights of a shorter exposure, as it is handed over."""

from __future__ import annotations

from dataclasses import dataclass, replace

from grayshelf.core.errors import CannotCombine
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.pictures.made_of import ScaledDark
from grayshelf.core.pictures.parts import Parts


@dataclass(frozen=True)
class Scaled:
    """With what, and to what, a master dark is scaled: ``bias + share·(dark − bias)``."""

    bias: int
    """The number of the frame that is the master bias."""
    from_s: float
    """Exposure of the dark."""
    to_s: float
    """Exposure of the lights."""

    @property
    def share(self) -> float:
        """Of the dark's current that the lights have, too: 0 … 1."""
        return self.to_s / self.from_s

    def of(self, facts: FrameFacts) -> FrameFacts:
        """What the scaled dark says of itself, where the longer one says `facts`."""
        return replace(facts, exposure_s=self.to_s, scaled_from_s=self.from_s)

    def of_pictures(self, dark: Parts, bias: Parts, unit: float = 1.0) -> ScaledDark:
        """The pixels of the scaled dark.

        Parameters
        ----------
        dark, bias
            In ADU.
        unit
            What an ADU is in the unit in which it is told.

        Raises
        ------
        CannotCombine
            Where dark and bias differ in size.
        """
        if (dark.width, dark.height) != (bias.width, bias.height):
            raise CannotCombine("Dark and bias differ in size.", "Look at the slip again.")
        return ScaledDark(dark, bias, self.share, unit)
