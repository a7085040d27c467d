"""Typed records at the database's edge: read from its JSON, and written to it.

A record of an older version lacks what came later, which is why whatever is not always there has a default; what is
not known any more is passed over.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

from pydantic import TypeAdapter

R = TypeVar("R")

_adapters: dict[type[Any], TypeAdapter[Any]] = {}


def _adapter(kind: type[R]) -> TypeAdapter[R]:
    made = _adapters.get(kind)
    if made is None:
        made = _adapters[kind] = TypeAdapter(kind)
    return made


def read(kind: type[R], kept: Mapping[str, Any]) -> R:
    """A record from what the database kept.

    Raises
    ------
    pydantic.ValidationError
        Where it makes no sense as such a record.
    """
    return _adapter(kind).validate_python(kept)


def as_kept(record: Any) -> dict[str, Any]:
    """A record for the database, without what stands at its default."""
    kept: dict[str, Any] = _adapter(type(record)).dump_python(record, mode="json", exclude_defaults=True)
    return kept
