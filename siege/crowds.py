"""Many readers at once on a library that was just opened, beside silent connections."""

from __future__ import annotations

import socket
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from siege.state import MAIN_PAGES, demo

READERS, ASKED, SILENT = 40, 800, 200


def main(folder: Path, frames: Path) -> list[str]:
    server = demo(folder, frames).start()
    server.kill()
    server.start()
    silent = []
    for _ in range(SILENT):
        connection = socket.create_connection(("127.0.0.1", server.port))
        connection.sendall(b"GET /api/state HTTP/1.1\r\nHost: 127.0.0.1")
        silent.append(connection)

    def read(number: int) -> tuple[float, str]:
        begun = time.monotonic()
        try:
            server.get(MAIN_PAGES[number % len(MAIN_PAGES)])
            return time.monotonic() - begun, ""
        except Exception as error:
            return time.monotonic() - begun, f"{MAIN_PAGES[number % len(MAIN_PAGES)]}: {error}"

    with ThreadPoolExecutor(READERS) as pool:
        answers = list(pool.map(read, range(ASKED)))
    for connection in silent:
        connection.close()
    server.kill()
    harm = [trouble for _, trouble in answers if trouble]
    print(
        f"   {ASKED} requests by {READERS} readers beside {SILENT} silent connections: {len(harm)} errors, the slowest "
        f"{max(t for t, _ in answers):.1f} s"
    )
    return harm
