"""Run all attacks, or those named; exit with 1 where one of them did harm."""

import argparse
import sys
import tempfile
import time
from pathlib import Path

from grayshelf.demo.generate import generate
from siege import (
    campaign,
    crowds,
    disks,
    fetching,
    filing,
    full_disks,
    handing,
    headers,
    kills,
    letting_go,
    older,
    requests,
    sending,
    vanishing,
)

PARTS = {
    "kills": kills,
    "disks": disks,
    "campaign": campaign,
    "handing": handing,
    "filing": filing,
    "letting-go": letting_go,
    "sending": sending,
    "full-disks": full_disks,
    "fetching": fetching,
    "vanishing": vanishing,
    "headers": headers,
    "requests": requests,
    "older": older,
    "crowds": crowds,
}


def main(named: list[str]) -> int:
    harm = []
    with tempfile.TemporaryDirectory(prefix="siege") as name:
        frames = Path(name) / "frames"
        generate(frames, "tiny", lambda done, total: None)
        for part in named or PARTS:
            print(f"\n== {part}", flush=True)
            folder, begun = Path(name) / part, time.monotonic()
            folder.mkdir()
            harm += PARTS[part].main(folder, frames)
            print(f"   {time.monotonic() - begun:.0f} s", flush=True)
    print(f"\nharm done: {len(harm)}")
    for line in harm:
        print(f"  {line}")
    return 1 if harm else 0


asked = argparse.ArgumentParser(prog="python -m siege", description=__doc__)
known = f"one of {', '.join(PARTS)}; all where none is named"
asked.add_argument("part", metavar="PART", nargs="*", choices=[*PARTS, []], help=known)
sys.exit(main(asked.parse_args().part))
