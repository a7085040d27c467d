"""The state of the house in figures: how long, how tangled and how well told the code is. `--check` fails beyond the limits."""

from __future__ import annotations

import argparse
import ast
import re
import statistics
import sys
from collections.abc import Iterator
from itertools import chain
from pathlib import Path

from radon.complexity import cc_rank, cc_visit

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "grayshelf"
PACKAGES = ("core", "devices", "library", "work", "web", "demo")
#: No worse than today; where a limit is passed, the code is mended, or the limit lowered with what was gained.
MOST_LONG_FILES, MOST_LINES_P95, MOST_COMPONENT_P95 = 0, 35, 90
#: The search alone may be tangled: it weighs many things that may be known or not.
MOST_TANGLED = 4
LEAST_WITH_UNIT_OR_SOURCE = 0.49
TESTS_SHARE = (0.15, 0.34)
_UNIT = re.compile(
    r"\b(ADU|e⁻|seconds?|°C|degrees?|%|percent|stops?|pixels?|shape|bytes?|mm|µm|nights?|days?|0 … 1)\b|°|``"
)


def modules() -> Iterator[Path]:
    """Our Python, without the migrations, which are never edited again."""
    return (p for p in sorted(SOURCE.rglob("*.py")) if "migrations" not in p.parts)


def of_the_page() -> Iterator[Path]:
    """Our TypeScript, without what is made of the OpenAPI document."""
    front = ROOT / "frontend" / "src"
    found = (p for p in front.rglob("*") if p.suffix in (".ts", ".tsx"))
    return (p for p in sorted(found) if not p.name.endswith(".d.ts"))


def functions(tree: ast.AST) -> Iterator[ast.FunctionDef | ast.AsyncFunctionDef]:
    """Every function and method."""
    return (n for n in ast.walk(tree) if isinstance(n, ast.FunctionDef | ast.AsyncFunctionDef))


def lines_of(path: Path) -> int:
    """Lines of a file."""
    return path.read_text().count("\n")


def p95(values: list[int]) -> float:
    """The 95th percentile."""
    return statistics.quantiles(values, n=20)[-1]


def react_components() -> list[tuple[int, str]]:
    """Lines of each React component: a function whose name begins with a capital, to the brace that ends it."""
    found: list[tuple[int, str]] = []
    for path in of_the_page():
        if path.suffix != ".tsx" or ".test." in path.name:
            continue
        begun = None
        for number, line in enumerate(path.read_text().splitlines()):
            if re.match(r"(export )?function [A-Z]", line):
                begun, name = number, line.split("function ")[1].split("(")[0]
            elif line == "}" and begun is not None:
                found.append((number - begun + 1, f"{path.stem}:{name}"))
                begun = None
    return found


def main() -> int:
    """Print the figures; with `--check` return 1 where a limit is passed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--check", action="store_true", help="say only what is beyond a limit, and fail")
    check = parser.parse_args().check
    said, beyond = [], []

    def figure(text: str, bad: bool = False) -> None:
        said.append(text)
        if bad:
            beyond.append(text)

    long_files = [
        (lines_of(p), p.relative_to(ROOT).as_posix())
        for p in chain(modules(), of_the_page(), (ROOT / "tests").rglob("*.py"))
        if lines_of(p) > 400
    ]
    figure(
        f"{len(long_files)} files over 400 lines (limit {MOST_LONG_FILES}): "
        + ", ".join(
            f"{name.removeprefix('src/grayshelf/')} {n}" for n, name in sorted(long_files, reverse=True)
        ),
        len(long_files) > MOST_LONG_FILES,
    )
    for package in PACKAGES:
        sizes = [
            (f.end_lineno or f.lineno) - f.lineno + 1
            for p in modules()
            if p.relative_to(SOURCE).parts[0] == package
            for f in functions(ast.parse(p.read_text()))
        ]
        figure(
            f"{package}: {len(sizes)} functions, lines at the median {statistics.median(sizes):.0f}, "
            f"p95 {p95(sizes):.0f} (limit {MOST_LINES_P95}), longest {max(sizes)}",
            p95(sizes) > MOST_LINES_P95,
        )
    tangled = [
        (block.complexity, f"{p.relative_to(SOURCE).as_posix()}:{block.name}")
        for p in modules()
        for block in cc_visit(p.read_text())
        if cc_rank(block.complexity) >= "D" and block.letter != "C"
    ]
    figure(
        f"{len(tangled)} functions of complexity D or worse (limit {MOST_TANGLED}): "
        + ", ".join(f"{name} {n}" for n, name in sorted(tangled, reverse=True)),
        len(tangled) > MOST_TANGLED,
    )
    public = [
        f
        for p in modules()
        if p.relative_to(SOURCE).parts[0] == "core"
        for f in ast.parse(p.read_text()).body
        if isinstance(f, ast.FunctionDef) and not f.name.startswith("_")
    ]
    told = sum(bool(_UNIT.search(ast.get_docstring(f) or "")) for f in public) / len(public)
    figure(
        f"{told:.0%} of {len(public)} public functions of core name a unit, a shape or an equation "
        f"(limit {LEAST_WITH_UNIT_OR_SOURCE:.0%})",
        told < LEAST_WITH_UNIT_OR_SOURCE,
    )
    components = react_components()
    longest = ", ".join(f"{name} {n}" for n, name in sorted(components, reverse=True)[:6])
    usual = p95([n for n, _ in components])
    figure(
        f"{len(components)} React components, lines p95 {usual:.0f} (limit {MOST_COMPONENT_P95}), longest {longest}",
        usual > MOST_COMPONENT_P95,
    )
    front = sum(lines_of(p) for p in (ROOT / "frontend" / "src").rglob("*.ts*") if p.name != "schema.d.ts")
    tests = sum(lines_of(p) for p in (ROOT / "tests").rglob("*.py"))
    code = sum(lines_of(p) for p in SOURCE.rglob("*.py")) + front
    share = tests / (tests + code)
    figure(
        f"tests are {share:.0%} of all lines ({tests:,} of {tests + code:,})",
        not TESTS_SHARE[0] < share < TESTS_SHARE[1],
    )
    print("\n".join(beyond if check else said))
    return 1 if check and beyond else 0


if __name__ == "__main__":
    sys.exit(main())
