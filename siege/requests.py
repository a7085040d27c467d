"""Requests made from the OpenAPI document by Schemathesis: none may end in a server error."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

from siege.state import MAIN_PAGES, demo, harm_done, pages_that_fail

ROOT = Path(__file__).parent.parent
TOOL = ROOT / ".venv-siege" / "bin" / "st"
SECONDS = 200


def main(folder: Path, frames: Path) -> list[str]:
    server = demo(folder, frames).start()
    command = [
        str(TOOL), "run", str(ROOT / "docs" / "openapi.json"), "--url", server.url, "--checks", "not_a_server_error",
        "--continue-on-failure", "--phases", "coverage,fuzzing", "--max-examples", "40", "--workers", "2",
        "--suppress-health-check", "all", "--request-timeout", "60", "--max-time", str(SECONDS), "--warnings", "off",
    ]  # fmt: skip
    done = subprocess.run(command, capture_output=True, text=True, cwd=folder)
    said = done.stdout
    (folder / "said.txt").write_text(said + done.stderr)
    count = re.search(r"([\d,]+) generated", said)
    # Each failure is a block under its address; blocks without an answer are troubles of the tool's own.
    blocks = re.split(r"\n_+ (?=(?:GET|POST|PUT|DELETE) )", said)[1:]
    # A device that does not answer is told as 502: nothing of the server's own failed.
    harm = [block.splitlines()[0].strip(" _") for block in blocks if "[500]" in block]
    if count is None:
        harm.append(f"it did not run: {said[-300:]} {done.stderr[-300:]}")
    print(f"   {count.group(1) if count else 0} requests, {len(harm)} of the addresses failed")
    for job in server.get("/api/jobs")["alive"]:
        if job["can_stop"]:
            server.post(f"/api/jobs/{job['id']}/stop")
    server.until(lambda: not any(j["can_stop"] for j in server.get("/api/jobs")["alive"]), 60)
    harm += pages_that_fail(server, MAIN_PAGES) + harm_done(server.folder / "library")
    server.kill()
    return harm
