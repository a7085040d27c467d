"""An older database beside newer files, a clock that jumps, and two servers on one library."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parent.parent
#: Each is a test that is small enough to be in the suite; here they are done together, again.
TESTS = (
    "tests/web/test_found_again.py::test_the_old_frames_of_an_older_database_are_not_taken_for_new_shots",
    "tests/web/test_found_again.py::test_a_library_that_lost_its_database_is_found_again_by_its_files",
    "tests/web/test_half_done.py",
    "tests/web/test_server.py",
    "tests/web/test_upgrade.py",
)


def main(folder: Path, frames: Path) -> list[str]:
    command = [sys.executable, "-m", "pytest", "-n", "2", *TESTS, f"--basetemp={folder / 'pytest'}"]
    done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True)
    print("   " + (done.stdout.strip().splitlines() or ["nothing was said"])[-1])
    return [line for line in done.stdout.splitlines() if line.startswith(("FAILED", "ERROR"))] or (
        ["the tests did not run"] if done.returncode else []
    )
