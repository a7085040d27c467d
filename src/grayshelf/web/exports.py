"""Tables as CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from datetime import datetime

from flask import Response

#: A cell that begins like this would be taken for a formula by spreadsheets.
_FORMULA = ("=", "+", "@", "\t", "\r")


def _cell(value: object) -> object:
    if isinstance(value, datetime):
        return value.isoformat(timespec="seconds")
    if isinstance(value, str) and (
        value.startswith(_FORMULA) or (value.startswith("-") and not value[1:2].isdigit())
    ):
        return "'" + value
    return value


def csv_response(rows: Sequence[Sequence[object]], name: str) -> Response:
    """A table as a file to save."""
    buffer = io.StringIO()
    writer = csv.writer(buffer)
    for row in rows:
        writer.writerow(["" if v is None else _cell(v) for v in row])
    # The mark at the start tells spreadsheets that this is UTF-8.
    return Response(
        "\ufeff" + buffer.getvalue(),
        mimetype="text/csv",
        headers={"Content-Disposition": f'attachment; filename="{name}.csv"'},
    )
