"""Tables as CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from urllib.parse import quote

from flask import Response

from grayshelf.core.filing.names import safe_name

#: A cell that begins like this would be taken for a formula by spreadsheets.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")
#: Characters of a table that go out at once.
_PIECE = 1 << 16


def _cell(value: object) -> object:
    if isinstance(value, datetime):
        return value.isoformat(timespec="seconds")
    if isinstance(value, str) and value.lstrip().startswith(_FORMULA) and not _is_number(value):
        return "'" + value
    return value


def _is_number(text: str) -> bool:
    """Whether a text is a number and nothing else: '-10', not '-10+20'."""
    try:
        float(text)
    except ValueError:
        return False
    return True


def csv_response(rows: Iterable[Sequence[object]], name: str) -> Response:
    """A table as a file to save; one whose rows are made one after the other goes out while they are made."""
    pieces = _as_csv(rows)
    body = pieces if isinstance(rows, Iterator) else "".join(pieces)
    return as_file(Response(body, mimetype="text/csv"), f"{name}.csv")


def _as_csv(rows: Iterable[Sequence[object]]) -> Iterator[str]:
    buffer = io.StringIO()
    # The mark at the start tells spreadsheets that this is UTF-8.
    buffer.write("\ufeff")
    writer = csv.writer(buffer)
    for row in rows:
        writer.writerow(["" if v is None else _cell(v) for v in row])
        if buffer.tell() > _PIECE:
            yield buffer.getvalue()
            buffer.seek(0)
            buffer.truncate()
    yield buffer.getvalue()


def as_file(response: Response, name: str) -> Response:
    """Let the browser save a response under a name, which may hold any letter (RFC 6266, RFC 8187)."""
    names = {"filename": safe_name(name), "filename*": f"UTF-8''{quote(name)}"}
    response.headers.set(
        "Content-Disposition", "attachment", **(names if not name.isascii() else {"filename": name})
    )
    return response
