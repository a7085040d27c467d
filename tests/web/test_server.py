"""The server itself: silent connections, bodies too large, a second start, and a first start that was killed."""

from __future__ import annotations

import signal
import socket
import sqlite3
import subprocess
import sys
import time
from contextlib import closing

import pytest

from tests.web.server import Server


@pytest.fixture(scope="module")
def server(demo_folder):
    running = Server(demo_folder).start()
    yield running
    running.kill()


def counted(folder, sql):
    with closing(sqlite3.connect(f"file:{folder}/library/grayshelf.db?mode=ro", uri=True)) as connection:
        return connection.execute(sql).fetchone()[0]


def test_a_first_start_that_was_killed_is_finished_by_the_next(tmp_path, made_frames):
    folder = tmp_path / "demo"
    folder.mkdir()
    (folder / "frames").symlink_to(made_frames)
    server = Server(folder)
    with (tmp_path / "first.log").open("wb") as log:
        first = subprocess.Popen(
            [sys.executable, "-m", "grayshelf.cli", "demo", "--folder", str(folder), "--size", "tiny", "--port", str(server.port)],
            stdout=log, stderr=log,
        )  # fmt: skip
    # Killed while it combines: the scan is done, the masters are not.
    for _ in range(1200):
        try:
            if counted(folder, "select count(*) from frame_set where master_set_id is not null") >= 2:
                break
        except sqlite3.Error:
            pass
        time.sleep(0.05)
    first.send_signal(signal.SIGKILL)
    first.wait()
    server.start()
    assert counted(folder, "select count(*) from camera_value where kind = 'offset'") == 1
    unbuilt = (
        "select count(*) from frame_set where kind in ('flat', 'dark flat') and not is_master and master_set_id is null "
        "and n_frames > 3 and night < '2026-10-18'"
    )
    assert counted(folder, unbuilt) == 0
    assert server.get("/api/jobs")["alive"] == [], "nothing is left half done to go on with"
    server.kill()


def test_connections_that_say_nothing_keep_nobody_out(server):
    silent = []
    for _ in range(150):
        connection = socket.create_connection(("127.0.0.1", server.port))
        connection.sendall(b"GET /api/state HTTP/1.1\r\nHost: 127.0.0.1")
        silent.append(connection)
    begun = time.monotonic()
    assert server.get("/api/state")["demo"]
    assert time.monotonic() - begun < 5
    for connection in silent:
        connection.close()


def test_a_body_that_is_too_large_is_refused_before_it_is_sent(server):
    with socket.create_connection(("127.0.0.1", server.port), timeout=10) as connection:
        connection.sendall(
            b"POST /api/folders HTTP/1.1\r\nHost: 127.0.0.1\r\nOrigin: http://elsewhere.example\r\n"
            b"Content-Type: application/json\r\nContent-Length: 600000000\r\n\r\n" + b"x" * 1000
        )
        assert b"413" in connection.recv(200)


def test_a_second_start_says_who_has_the_library_and_touches_nothing(server):
    library = server.folder / "library"
    job = server.post("/api/folders/2/scan")["id"]
    for port, words in (("0", "is open already: process"), (str(server.port), "cannot be had")):
        second = subprocess.run(
            [sys.executable, "-m", "grayshelf.cli", "serve", "--library", str(library), "--port", port],
            capture_output=True, text=True, timeout=60,
        )  # fmt: skip
        assert second.returncode == 1
        assert words in second.stderr
        assert "Traceback" not in second.stderr
    fresh = subprocess.run(
        [sys.executable, "-m", "grayshelf.cli", "demo", "--folder", str(server.folder), "--size", "tiny", "--port", "0", "--fresh"],
        capture_output=True, text=True, timeout=60,
    )  # fmt: skip
    assert (fresh.returncode, "is open already" in fresh.stderr) == (1, True), (
        "nothing is made anew under its hands"
    )
    assert server.until(lambda: server.job(job)["state"] == "done")


def test_it_ends_when_the_system_asks_also_where_ctrl_c_is_ignored(tmp_path):
    command = [
        sys.executable,
        "-m",
        "grayshelf.cli",
        "serve",
        "--library",
        str(tmp_path / "own"),
        "--new",
        "--port",
        "0",
    ]
    # As a shell begins what a script puts behind itself.
    behind = {"preexec_fn": lambda: signal.signal(signal.SIGINT, signal.SIG_IGN)}
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, **behind)
    try:
        assert any("Gray Shelf is at" in line for line in process.stdout)
        process.send_signal(signal.SIGTERM)
        assert process.wait(timeout=30) == 0
    finally:
        process.kill()
    assert (tmp_path / "own" / "kept-answers.msgpack").exists(), (
        "what it had made is there for the next start"
    )
