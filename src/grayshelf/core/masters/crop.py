"""A master cropped to lights of a part of the sensor: the very pixels that they have."""

from __future__ import annotations

from dataclasses import dataclass, replace

from grayshelf.core.errors import CannotCombine
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.lit_part import lit_part_of
from grayshelf.core.matching.part_of_sensor import OnSensor, place_in
from grayshelf.core.pictures.parts import Cropped, Parts


@dataclass(frozen=True)
class Crop:
    """The columns and rows of a master that lights of a part of the sensor have."""

    left: int
    top: int
    width: int
    height: int

    def of(self, facts: FrameFacts) -> FrameFacts:
        """What the crop says of itself, where the whole says `facts`."""
        x, y = facts.corner or (0, 0)
        lit = lit_part_of(facts)
        lit = lit and lit.within(self.left, self.top, self.width, self.height)
        return replace(
            facts,
            width=self.width,
            height=self.height,
            corner_x=x + self.left,
            corner_y=y + self.top,
            lit_section=lit and lit.section,
        )

    def of_picture(self, whole: Parts) -> Cropped:
        """The pixels of the crop.

        Raises
        ------
        CannotCombine
            Where the picture is smaller than that.
        """
        if self.left + self.width > whole.width or self.top + self.height > whole.height:
            raise CannotCombine("The master is smaller than it was.", "Scan its folder again.")
        return Cropped(whole, self.left, self.top, self.width, self.height)


def crop_for(lights: OnSensor, facts: OnSensor) -> Crop | None:
    """What a master must be cropped to for lights; None where it has their size, or does not show all of them."""
    place = place_in(lights, facts)
    if place is None or (lights.width, lights.height) == (facts.width, facts.height):
        return None
    return Crop(*place, lights.width, lights.height)
