"""What the database kept and nobody can read any more: a value of its own, so that one row takes down no query.

A damaged disk, or a fault of ours, can leave text that is no JSON, or a day that is none. Read as an empty value it
would say what is not so; raised while rows are fetched it would take every other row with it. So it is read as
`Unreadable`, which raises where, and only where, somebody looks into it.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any, NoReturn

import msgspec
from sqlalchemy import JSON, ColumnElement, case, func, type_coerce

_quickly = msgspec.json.Decoder().decode


class UnreadableValue(ValueError):
    """A value that the database kept makes no sense."""


class Unreadable:
    """Stands where a value should: every look into it raises `UnreadableValue`."""

    def __init__(self, text: object) -> None:
        self.__dict__["_text"] = str(text)[:200]

    def _raise(self) -> NoReturn:
        raise UnreadableValue(f"this is no value that can be read: {self.__dict__['_text']!r}")

    def __getattr__(self, name: str) -> Any:
        # What Python itself asks of every object has its usual answer.
        if name.startswith("__"):
            raise AttributeError(name)
        self._raise()

    def __getitem__(self, key: object) -> Any:
        self._raise()

    def __iter__(self) -> Iterator[Any]:
        self._raise()

    def __len__(self) -> int:
        self._raise()

    def __bool__(self) -> bool:
        self._raise()

    def __contains__(self, key: object) -> bool:
        self._raise()


def json_or_unreadable(text: str) -> Any:
    """JSON that the database kept, or `Unreadable`."""
    try:
        return _quickly(text)
    except (msgspec.MsgspecError, RecursionError):
        pass
    # Python's own writer and reader also know NaN, infinity and half of a pair.
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        return Unreadable(text)


def readable(column: Any) -> ColumnElement[Any]:
    """A column of JSON for a look into it in SQL: NULL where it is none, where SQLite would end the whole query."""
    return type_coerce(case((func.json_valid(column), column)), JSON)
