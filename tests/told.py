"""Answers held whole: all numbers and words of rich cases, beside those that were read through when they were kept.

A rule is tested where it is named. Here nothing is to change unseen: each answer is kept as JSON beside the tests, and a
change that means to change it writes them anew (`TELL_ANEW=1`) and shows in its diff what became of them.
"""

from __future__ import annotations

import dataclasses
import json
import math
import os
from collections.abc import Mapping, Set
from datetime import date
from enum import Enum
from pathlib import Path
from typing import Any

import numpy as np

KEPT_IN = Path(__file__).parent / "told"
#: Sums of float32 differ in their last digits from one processor to the next.
RELATIVE, ABSOLUTE = 2e-4, 1e-6


def same_as_told(
    file: str, name: str, answer: Any, relative: float = RELATIVE, absolute: float = ABSOLUTE
) -> None:
    """Hold an answer against the one that is kept under a name in a file of `KEPT_IN`, its numbers within `relative` of
    themselves, or within `absolute`."""
    path = KEPT_IN / f"{file}.json"
    kept = json.loads(path.read_text()) if path.exists() else {}
    now = plain(answer)
    if os.environ.get("TELL_ANEW"):
        path.parent.mkdir(exist_ok=True)
        whole = [f"{json.dumps(k)}: {_lines(v)}" for k, v in sorted((kept | {name: now}).items())]
        path.write_text("{\n" + ",\n".join(whole) + "\n}\n")
        return
    assert name in kept, f"{name} is not in {path}: TELL_ANEW=1 keeps it"
    found = difference(kept[name], now, relative, absolute)
    assert found is None, f"{name}: {found}"


def lines(text: str) -> list[str]:
    """The lines of a text, without what indents them."""
    return [line.strip() for line in text.strip().splitlines()]


def master_as_told(name: str, made: Any) -> None:
    """Hold a master against the one that is kept; another processor may take one pixel more or less for an outlier."""
    same_as_told("masters", name, made, relative=5e-3, absolute=1e-4)


def _lines(value: Any) -> str:
    """JSON with the parts of a list on lines of their own, so that a change shows where it is."""
    if not isinstance(value, list) or not value:
        return json.dumps(value, ensure_ascii=False)
    parts = ",\n ".join(json.dumps(v, ensure_ascii=False) for v in value)
    return f"[\n {parts}\n]"


def plain(value: Any) -> Any:
    """As JSON keeps it: fields by name that are not as they are by default, numbers to six digits, arrays as figures that any
    change of them moves."""
    if isinstance(value, np.ndarray):
        return _figures(value)
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        fields = ((f, getattr(value, f.name)) for f in dataclasses.fields(value))
        return {f.name: plain(v) for f, v in fields if isinstance(v, np.ndarray) or v != f.default}
    if isinstance(value, Enum):
        return plain(value.value)
    if isinstance(value, Mapping):
        return {str(plain(k)): plain(v) for k, v in value.items()}
    if isinstance(value, Set):
        return sorted(plain(v) for v in value)
    if isinstance(value, (list, tuple)):
        return [plain(v) for v in value]
    if isinstance(value, (float, np.floating)):
        return float(f"{value:.6g}") if math.isfinite(value) else str(value)
    if isinstance(value, np.integer):
        return int(value)
    return value.isoformat() if isinstance(value, date) else value


def _figures(array: np.ndarray) -> dict[str, Any]:
    values = np.nan_to_num(array.astype(np.float64).ravel(), nan=-1.0)
    if values.size <= 12:
        return {"shape": list(array.shape), "values": [plain(float(v)) for v in values]}
    along = np.linspace(0.5, 1.5, values.size)
    return {
        "shape": list(array.shape),
        "quantiles": [plain(float(v)) for v in np.quantile(values, (0.0, 0.1, 0.5, 0.9, 1.0))],
        "mean": plain(float(values.mean())),
        "along": plain(float((values * along).mean())),
    }


def difference(kept: Any, now: Any, relative: float, absolute: float, where: str = "") -> str | None:
    """Where two plain answers first differ, in words; None where they do not."""
    parts: list[tuple[Any, Any, str]] = []
    if isinstance(kept, dict) and isinstance(now, dict) and kept.keys() == now.keys():
        parts = [(kept[k], now[k], f"{where}.{k}") for k in kept]
    elif isinstance(kept, list) and isinstance(now, list) and len(kept) == len(now):
        parts = [(a, b, f"{where}[{i}]") for i, (a, b) in enumerate(zip(kept, now, strict=True))]
    elif all(isinstance(v, (int, float)) and not isinstance(v, bool) for v in (kept, now)):
        near = math.isclose(kept, now, rel_tol=relative, abs_tol=absolute)
        return None if near else f"{where or 'it'} was {kept!r} and is {now!r}"
    elif kept != now:
        return f"{where or 'it'} was {kept!r} and is {now!r}"
    return next((d for a, b, at in parts if (d := difference(a, b, relative, absolute, at))), None)
