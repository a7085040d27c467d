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


def same_as_told(file: str, name: str, answer: Any) -> None:
    """Hold an answer against the one that is kept under a name in a file of `KEPT_IN`."""
    path = KEPT_IN / f"{file}.json"
    kept = json.loads(path.read_text()) if path.exists() else {}
    now = plain(answer)
    if os.environ.get("TELL_ANEW"):
        path.parent.mkdir(exist_ok=True)
        whole = [f"{json.dumps(k)}: {_lines(v)}" for k, v in sorted((kept | {name: now}).items())]
        path.write_text("{\n" + ",\n".join(whole) + "\n}\n")
        return
    assert name in kept, f"{name} is not in {path}: TELL_ANEW=1 keeps it"
    found = difference(kept[name], now)
    assert found is None, f"{name}: {found}"


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


def difference(kept: Any, now: Any, where: str = "") -> str | None:
    """Where two plain answers first differ, in words; None where they do not."""
    if isinstance(kept, dict) and isinstance(now, dict) and kept.keys() == now.keys():
        return next((d for k in kept if (d := difference(kept[k], now[k], f"{where}.{k}"))), None)
    if isinstance(kept, list) and isinstance(now, list) and len(kept) == len(now):
        pairs = enumerate(zip(kept, now, strict=True))
        return next((d for i, (a, b) in pairs if (d := difference(a, b, f"{where}[{i}]"))), None)
    numbers = all(isinstance(v, (int, float)) and not isinstance(v, bool) for v in (kept, now))
    if numbers and math.isclose(kept, now, rel_tol=RELATIVE, abs_tol=ABSOLUTE):
        return None
    return None if kept == now else f"{where or 'it'} was {kept!r} and is {now!r}"
