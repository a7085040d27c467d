"""Fixtures: a tiny demo that is made once, and its application."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import settings

from grayshelf.serving import open_demo
from grayshelf.web.app import create_app

# How fast something is, `make bench` says; a machine that is busy must not decide what is right.
# Nor must luck: the suite tries the same examples everywhere, and `make hunt` looks for others.
settings.register_profile("suite", deadline=None, derandomize=True)
settings.register_profile("hunt", deadline=None, derandomize=False, print_blob=True)
settings.load_profile("suite")


@pytest.fixture(scope="session")
def made_frames(tmp_path_factory) -> Path:
    """The demo's frames, on very small sensors, made once."""
    from grayshelf.demo.generate import generate

    folder = tmp_path_factory.mktemp("made")
    generate(folder / "frames", "tiny", lambda done, total: None)
    return folder / "frames"


@pytest.fixture(scope="module")
def demo_folder(tmp_path_factory, made_frames) -> Path:
    """A demo of its own for one module of tests, on the frames made once."""
    folder = tmp_path_factory.mktemp("demo") / "demo"
    folder.mkdir()
    (folder / "frames").symlink_to(made_frames)
    return folder


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
