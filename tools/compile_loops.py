"""Compile the loops over pixels once, before several processes that all need them would each do it (a minute each).

The compiler keeps what it made beside the source, for every later process of this machine.
"""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor

import numpy as np

from grayshelf.core.checks import looks_compiled
from grayshelf.core.masters import clipping, clipping_kinds, tiles
from grayshelf.core.sensor import compiled

N, PIXELS = 5, 64
#: Two that take as long as each other, one for each core of a small machine.
PARTS = ("stacks as they lie in files", "all others")


def compile_part(part: str) -> None:
    """Call each loop of a part once, on as little as it takes."""
    table, pairs = np.ones(2), tiles.networks(N)
    clip = clipping_kinds.Clip(clipping_kinds.STD, 3.0, 3, False, table, table, table, 1.0, 1.0, 1.0, 0)
    out, halves, left_out = np.empty(PIXELS, np.float32), np.empty(PIXELS, np.float32), np.zeros(N, np.int64)
    rest = (clip, PIXELS, pairs, out, halves, 1, left_out)
    whole, numbers = np.zeros((N, PIXELS), np.uint16), np.zeros((N, PIXELS), np.float32)
    if part == PARTS[0]:
        tiles.combine_whole(whole, *rest)
        tiles.median_of_whole(whole, PIXELS, pairs, out, halves, 1)
        clipping.scatter_of(numbers, np.ones(N), 3.0, 1.0, 0)
        compiled.count(whole.ravel(), np.zeros((4, 65_536), np.uint32))
        compiled.draw_kinds(
            np.ones((1, 2)), np.ones(2), np.ones(1), np.ones(1, np.int64), np.ones(1), np.zeros(2, np.int64)
        )
        compiled.sums(whole, whole, np.ones((1, 1), np.bool_), N, 0.0, 1.0, 65_535)
        return
    tiles.combine_scaled(whole, np.ones(N, np.float32), np.empty(0, np.float32), *rest)
    tiles.combine_numbers(numbers, *rest)
    squares = np.zeros((1, PIXELS // N), np.float32)
    looks_compiled.blocks_of(numbers, N, 0.0, 1.0, 1.0, squares, squares.copy(), np.zeros((8, N)))
    looks_compiled.points_of(numbers, numbers, 1.0, 1, np.zeros((1, 2), np.int32))


if __name__ == "__main__":
    with ProcessPoolExecutor() as processes:
        list(processes.map(compile_part, PARTS))
