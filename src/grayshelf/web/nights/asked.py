"""A night as an address names it."""

from __future__ import annotations

from datetime import date

from grayshelf.core.errors import GrayShelfError


def night_in(text: str) -> date:
    """'2026-10-18' as a day.

    Raises
    ------
    GrayShelfError
    """
    try:
        return date.fromisoformat(text)
    except ValueError as error:
        raise GrayShelfError(f"‘{text}’ is not a night.", "Write it as 2026-10-18.") from error
