"""Latitudes and longitudes as people type them: a number with a point or a comma, or '52° 57′ N'."""

from __future__ import annotations

from typing import Annotated

from pydantic import BeforeValidator, Field
from pydantic_core import PydanticCustomError

from grayshelf.core.frames.place import degrees_of


def _typed(what: str, others: str) -> BeforeValidator:
    """Reads what was typed for a latitude or a longitude; `others` are the letters that stand beside the other one. (A small
    s is of the seconds.)"""

    def read(value: object) -> object:
        if not isinstance(value, str):
            return value
        text = value.strip()
        degrees = degrees_of(text.replace(",", "."))
        if degrees is None or {text[0], text[-1]} & set(others):
            wrong = f"'{text[:40]}' is no {what}: give degrees, such as 52.95 or 52° 57′."
            raise PydanticCustomError("degrees", "{wrong}", {"wrong": wrong})
        return degrees

    return BeforeValidator(read, json_schema_input_type=float | str)


DegreesNorth = Annotated[float, Field(allow_inf_nan=False), _typed("latitude", "EWew")]
"""Degrees north, of any size: who keeps them says what is too far."""

DegreesEast = Annotated[float, Field(allow_inf_nan=False), _typed("longitude", "NSn")]
"""Degrees east, of any size."""

Latitude = Annotated[float, Field(ge=-90, le=90), _typed("latitude", "EWew")]
"""Degrees north."""

Longitude = Annotated[float, Field(ge=-180, le=180), _typed("longitude", "NSn")]
"""Degrees east."""
