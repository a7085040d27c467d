"""How values are kept in the tables of the library."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, date, datetime
from typing import Any

from sqlalchemy import JSON, Date, DateTime, TypeDecorator
from sqlalchemy.engine import Dialect
from sqlalchemy.orm import DeclarativeBase


def _or_none(read: Callable[[Any], Any] | None) -> Callable[[Any], Any]:
    """What is kept as a day or a time and is none counts as not known: one row never takes a page down."""
    assert read is not None

    def told(value: Any) -> Any:
        try:
            return read(value)
        except (ValueError, TypeError):
            return None

    return told


class Day(TypeDecorator[date]):
    """A day."""

    impl = Date
    cache_ok = True

    def result_processor(self, dialect: Dialect, coltype: object) -> Callable[[Any], Any]:
        """From the database."""
        return _or_none(super().result_processor(dialect, coltype))


class Utc(TypeDecorator[datetime]):
    """An aware UTC time; SQLite keeps it without its zone."""

    impl = DateTime
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Dialect) -> datetime | None:
        """To the database."""
        return None if value is None else value.astimezone(UTC).replace(tzinfo=None)

    def process_result_value(self, value: datetime | None, dialect: Dialect) -> datetime | None:
        """From the database."""
        return None if value is None else value.replace(tzinfo=UTC)

    def result_processor(self, dialect: Dialect, coltype: object) -> Callable[[Any], Any]:
        """From the database."""
        return _or_none(super().result_processor(dialect, coltype))


class Base(DeclarativeBase):
    """Base of all tables."""

    type_annotation_map = {dict[str, Any]: JSON, list[Any]: JSON, datetime: Utc, date: Day}
