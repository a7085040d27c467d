"""A level that was added to every pixel of lights or of a dark on purpose, as the keyword PEDESTAL tells it."""

from __future__ import annotations

from grayshelf.core.digits import significant


def added_adu(pedestal_adu: float | None) -> float:
    """What was added, ADU: SBFITSEXT 1.0 tells what to add to get to zero, -100 for 100; others tell what was added, 100
    (from memory).
    """
    return abs(pedestal_adu or 0.0)


def remaining_adu(light_adu: float | None, dark_adu: float | None) -> float:
    """What is left of it in a light once the dark is taken off, ADU; below 0 where too much is taken off."""
    return added_adu(light_adu) - added_adu(dark_adu)


def pedestal_left(light_adu: float | None, dark_adu: float | None) -> str | None:
    """What to say of it; None where the dark takes off what was added.

    Cameras that add it to every frame add the same to the dark.
    """
    left = remaining_adu(light_adu, dark_adu)
    if left == 0.0:
        return None
    light, dark = (f"{significant(added_adu(x), 5)} ADU" if x else "none" for x in (light_adu, dark_adu))
    if left > 0.0:
        return f"Pedestal: {light} was added to these lights, {dark} to their dark. {significant(left, 5)} ADU stay in them."
    return f"Pedestal: {dark} was added to the dark, {light} to these lights. {significant(-left, 5)} ADU too much are taken off."
