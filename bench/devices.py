"""A picture of 24 MP over HTTP on this machine: how long it takes from the served rig, beside a plain `alpyca` download."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Callable

import numpy as np
from alpaca.camera import Camera

from grayshelf.clock import MachineClock
from grayshelf.devices.alpaca.asking import AlpacaDevice, AlpacaServer
from grayshelf.devices.alpaca.building import camera_of
from grayshelf.devices.alpaca.discovery import ask_server
from grayshelf.devices.alpaca.saying import try_device

PORT, TRIES, LIMIT_S = 11_333, 7, 1.0


def _best(do: Callable[[], object]) -> float:
    took = []
    for _ in range(TRIES):
        begun = time.perf_counter()
        do()
        took.append(time.perf_counter() - begun)
    return sorted(took)[len(took) // 2]


def main() -> None:
    """Print what a frame costs beside its exposure, and the ratio to alpyca's download."""
    command = [
        sys.executable,
        "-m",
        "grayshelf.cli",
        "rig",
        "--port",
        str(PORT),
        "--size",
        "full",
        "--rate",
        "60",
    ]
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as rig:
        try:
            _measure()
        finally:
            rig.terminate()


def _measure() -> None:
    address = f"http://127.0.0.1:{PORT}"
    while ask_server(address).trouble:
        time.sleep(0.2)
    device = AlpacaDevice(AlpacaServer(address), "camera", 0, "It")
    said = try_device(device).said
    camera = camera_of(device, said, MachineClock(), called="It", white_adu=None)
    camera.expose(0.5, 100, 30, 1)
    size = (camera.facts.width, camera.facts.height)
    other = Camera(f"127.0.0.1:{PORT}", 0)
    assert np.array_equal(camera._picture(size, None).T, np.asarray(other.ImageArray))

    ours = _best(lambda: camera._picture(size, None))
    theirs = _best(lambda: other.ImageArray)
    as_array = _best(lambda: np.asarray(other.ImageArray))
    print(f"24 MP as an array of rows    {ours:6.3f} s   limit {LIMIT_S:g} s beside the exposure")
    print(f"alpyca, as it comes          {theirs:6.3f} s   ours takes {ours / theirs:.2f} of it, limit 1")
    print(f"alpyca, as an array          {as_array:6.3f} s   ours takes {ours / as_array:.2f} of it")


if __name__ == "__main__":
    main()
