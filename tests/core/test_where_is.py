"""The places that the architecture names are there, and what is not part of the checks can still be begun."""

from __future__ import annotations

import ast
import importlib
import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
TEXT = (ROOT / "docs" / "architecture.md").read_text()
PLACE = re.compile(r"`((?:core|library|work|web|devices|command_line)/[a-z_/]+\.py)(?::(\w+))?`")


def names_in(path: Path) -> set[str]:
    """What a module defines at its top."""
    found = set()
    for node in ast.parse(path.read_text()).body:
        if isinstance(node, ast.FunctionDef | ast.ClassDef):
            found.add(node.name)
        elif isinstance(node, ast.Assign):
            found |= {t.id for target in node.targets for t in ast.walk(target) if isinstance(t, ast.Name)}
        elif isinstance(node, ast.AnnAssign) and isinstance(node.target, ast.Name):
            found.add(node.target.id)
    return found


def test_every_place_that_is_named_is_there():
    places = PLACE.findall(TEXT)
    assert len(places) > 50
    gone = [
        f"{path}:{name}"
        for path, name in places
        if not (file := ROOT / "src" / "grayshelf" / path).is_file() or (name and name not in names_in(file))
    ]
    assert gone == []


def test_each_question_has_its_place():
    table = TEXT.split("## Where is …")[1].split("\n## ")[0]
    rows = [line for line in table.splitlines() if line.startswith("| ") and "`" in line]
    assert len(rows) >= 30 and all(PLACE.search(row) for row in rows)


@pytest.mark.parametrize(
    "path", [*ROOT.glob("bench/*.py"), *ROOT.glob("siege/*.py")], ids=lambda p: f"{p.parent.name}.{p.stem}"
)
def test_measurements_and_attacks_find_what_they_use(path):
    if path.stem == "__main__":
        # Begun as soon as it is imported: it must at least name parts that are there.
        compile(path.read_text(), path, "exec")
    else:
        importlib.import_module(f"{path.parent.name}.{path.stem}")
