"""A row's filter in a sentence; a rig without one has rows, too."""

from __future__ import annotations

#: Stands for a filter where there is none.
NO_FILTER = "none"


def named(code: str) -> str:
    """A filter in a list.

    >>> named("Ha"), named(NO_FILTER)
    ('Ha', 'no filter')
    """
    return "no filter" if code == NO_FILTER else code


def through(code: str) -> str:
    """What frames are taken through, behind them.

    >>> f"25 flats{through('Ha')}", f"25 flats{through(NO_FILTER)}"
    ('25 flats in Ha', '25 flats without a filter')
    """
    return " without a filter" if code == NO_FILTER else f" in {code}"


def meant_for(code: str) -> str:
    """What something is for, behind it.

    >>> f"The setting{meant_for('Ha')}", f"The setting{meant_for(NO_FILTER)}"
    ('The setting for Ha', 'The setting without a filter')
    """
    return " without a filter" if code == NO_FILTER else f" for {code}"
