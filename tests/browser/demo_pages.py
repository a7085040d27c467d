"""The demo as one server, and a page of it that minds every trouble."""

from __future__ import annotations

import pytest
from playwright.sync_api import sync_playwright

from tests.web.server import Server

FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip


@pytest.fixture(scope="module")
def server(demo_folder):
    running = Server(demo_folder, rate=600.0).start()
    yield running
    running.kill()


@pytest.fixture(scope="module")
def browser():
    with sync_playwright() as play:
        opened = play.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield opened
        opened.close()


@pytest.fixture
def page(browser, server):
    """A page that minds every error in its console and every request that leaves this machine."""
    opened = browser.new_page(
        viewport={"width": 1280, "height": 800}, color_scheme="light", reduced_motion="reduce"
    )
    opened.set_default_timeout(60_000)
    troubles: list[str] = []
    # A refusal (400) is a part of the way: the page tells it in words, and the browser notes it.
    opened.on(
        "console", lambda m: troubles.append(m.text) if m.type == "error" and "400" not in m.text else None
    )
    opened.on("pageerror", lambda e: troubles.append(str(e)))
    opened.on(
        "request",
        lambda r: (
            None if r.url.startswith((server.url, "data:", f"blob:{server.url}")) else troubles.append(r.url)
        ),
    )
    opened.goto(server.url)
    # A key that comes before the page is there is nobody's: it has found its first place by then.
    opened.wait_for_url("**/tonight")
    yield opened
    opened.close()
    assert not troubles, troubles
