"""Fixtures: a tiny demo that is made once, and its application."""

from __future__ import annotations

import gc
import os
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from filelock import FileLock
from hypothesis import settings
from sqlalchemy import Engine
from werkzeug.routing import Rule

from grayshelf.library import database
from grayshelf.serving import open_demo
from grayshelf.web.app import create_app

# New libraries begin with the zone of the machine, which is another one elsewhere.
os.environ["TZ"] = "UTC"
# How fast something is, `make bench` says; a machine that is busy must not decide what is right.
# Nor must luck: the suite tries the same examples everywhere, and `make hunt` looks for others.
settings.register_profile("suite", deadline=None, derandomize=True)
settings.register_profile("hunt", deadline=None, derandomize=False, print_blob=True)
# A change to a rule is looked for by many runs of few examples.
settings.register_profile("mutants", deadline=None, derandomize=True, max_examples=15)
settings.load_profile(os.environ.get("EXAMPLES", "suite"))


#: Files that take the longest, those that mostly wait among those that reckon: they begin first, so that at the end no process
#: is left alone with one of them.
LONGEST_FIRST = (
    "browser/test_whole_way.py",
    "browser/test_bench_way.py",
    "reference/test_offset.py",
    "web/test_kill.py",
    "web/test_served_rig.py",
    "web/test_hostile.py",
    "reference/test_looking_closely.py",
    "web/test_hand_over.py",
    "web/test_by_hand.py",
    "web/test_by_hand_long.py",
    "web/test_vanishing.py",
    "web/test_found_again.py",
    "web/test_upgrade.py",
    "browser/test_disks_and_network.py",
    "browser/test_by_hand.py",
    "web/test_run.py",
    "web/test_server.py",
    "web/test_twilight_troubles.py",
    "web/test_over_restart.py",
    "reference/test_gain.py",
    "core/test_stock.py",
    "reference/test_masters.py",
    "web/test_plans.py",
    "web/test_timed_light.py",
)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The longest files first, all else as it was."""
    rank = {name: number for number, name in enumerate(LONGEST_FIRST)}
    root = Path(__file__).parent
    items.sort(key=lambda item: rank.get(item.path.relative_to(root).as_posix(), len(rank)))


def compile_once() -> None:
    """Let what hundreds of tests make anew share what is made of it: addresses of the application, statements of the database.

    To compile them takes longer than all else that an application or a library needs to be opened.
    """
    compiled, addresses = Rule.compile, {}

    def address(rule: Rule) -> None:
        first = addresses.setdefault((rule.rule, rule.endpoint, tuple(sorted(rule.methods or ()))), rule)
        if first is rule:
            compiled(rule)
            return
        rule._parts, rule._trace, rule._converters = first._parts, first._trace, first._converters
        rule.arguments = rule.arguments | first.arguments
        rule._build, rule._build_unknown = (
            build.__func__.__get__(rule, None) for build in (first._build, first._build_unknown)
        )

    Rule.compile = address
    make, engines = database.create_engine, []

    def engine(*args: Any, **options: Any) -> Engine:
        made = make(*args, **options)
        if not engines:
            engines.append(made)
        made.dialect, made._compiled_cache = engines[0].dialect, engines[0]._compiled_cache
        return made

    database.create_engine = engine


compile_once()


def pytest_collection_finish() -> None:
    """What was imported stays until the end: it need not be gone through each time that garbage is collected. Nor need what
    a test makes be gone through at every 700 objects."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 50)


def made_once(tmp_path_factory, name: str, make: Callable[[Path], None]) -> Path:
    """A folder that is made once, whichever of the processes that share the tests asks first."""
    base = tmp_path_factory.getbasetemp()
    folder = (base.parent if "PYTEST_XDIST_WORKER" in os.environ else base) / name
    with FileLock(folder.with_suffix(".lock")):
        if not folder.exists():
            part = folder.with_suffix(".part")
            part.mkdir()
            make(part)
            part.rename(folder)
    return folder


@pytest.fixture(scope="session")
def made_frames(tmp_path_factory) -> Path:
    """The demo's frames, on very small sensors, made once."""
    from grayshelf.demo.generate import generate

    return made_once(
        tmp_path_factory, "frames", lambda folder: generate(folder, "tiny", lambda done, total: None)
    )


@pytest.fixture(scope="session")
def made_demo(tmp_path_factory, made_frames) -> Path:
    """A demo that was opened for the first time and closed again, made once."""

    def make(folder: Path) -> None:
        (folder / "frames").symlink_to(made_frames)
        opened = open_demo(folder, "tiny", 1e6)
        opened.runner.shut_down()
        opened.library.close()

    return made_once(tmp_path_factory, "demo", make)


@pytest.fixture(scope="module")
def demo_folder(tmp_path_factory, made_demo) -> Path:
    """A demo of its own for one module of tests: a copy of the one made once, on the same frames."""
    return shutil.copytree(made_demo, tmp_path_factory.mktemp("demo") / "demo", symlinks=True)


@pytest.fixture(scope="module")
def context(demo_folder):
    """A demo, opened, with a clock that hardly waits."""
    opened = open_demo(demo_folder, "tiny", 1e6)
    yield opened
    opened.runner.shut_down()
    opened.library.close()


@pytest.fixture(scope="module")
def client(context):
    """A client of the demo's application."""
    app = create_app(context)
    app.testing = False
    return app.test_client()
