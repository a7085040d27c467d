"""A stack read and combined strip by strip, on all cores: each reads some rows of every frame, and combines them while the
next one reads."""

from __future__ import annotations

import os
import sys
from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack
from dataclasses import dataclass
from queue import SimpleQueue
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.masters.clipping_kinds import NO_CLIPPING, Clip
from grayshelf.core.masters.sources import Floats, KeptUnsigned, RawReader, RowSource
from grayshelf.core.pictures.colours import times_by_place

#: Bytes that the strips of a whole stack take in memory together: so many stay in what the cores share.
STRIP_BYTES = 24 * 1024 * 1024
#: Files that are held open together; a system lets a process have a thousand or fewer.
MOST_OPEN = 200
CORES = max(1, min(8, os.cpu_count() or 1))


@dataclass(frozen=True)
class Strip:
    """Some rows of a master, combined."""

    first: int
    pixels: Floats
    """Shape (rows, width)."""
    difference: Floats
    """What the half stacks differ by, in every `spare`-th pixel."""
    left_out: NDArray[np.int64]
    """Samples that were left out, by frame."""


class Strips:
    """The strips of a master: combined on all cores, handed out in their order."""

    def __init__(
        self,
        sources: Sequence[RowSource],
        clip: Clip,
        pedestal: RowSource | None,
        scales: NDArray[np.float64] | None,
        spare: int,
    ) -> None:
        """`scales`, shape (n, side, side), is what each frame's colour phases are multiplied by; None leaves them as they are."""
        self._sources, self._clip, self._pedestal, self._scales = sources, clip, pedestal, scales
        self._spare = spare
        self._open: list[RawReader] = []
        # Of a colour sensor each phase has a factor of its own, which only the slower way knows.
        one_factor = scales is None or bool(np.all(scales == scales[:, :1, :1]))
        kept = [s for s in sources if one_factor and isinstance(s, KeptUnsigned) and s.unsigned_16]
        self._kept = kept if len(kept) == len(sources) else []
        row_bytes = len(sources) * sources[0].width * (2 if self._kept else 4)
        self._rows = max(2, min(sources[0].height, STRIP_BYTES // CORES // row_bytes) // 2 * 2)
        # One reads while the others combine: two that read would wait for each other after every read.
        self._reading = Lock()
        self._rooms: SimpleQueue[NDArray[np.uint8]] = SimpleQueue()
        for _ in range(CORES):
            self._rooms.put(np.empty(self._rows * row_bytes, np.uint8))

    def __iter__(self) -> Iterator[Strip]:
        height = self._sources[0].height
        firsts = iter(range(0, height, self._rows))
        with ExitStack() as held, ThreadPoolExecutor(CORES, thread_name_prefix="combine") as several:
            # Opening a file for each strip takes half as long as reading from it.
            self._open = [held.enter_context(source.raw_rows()) for source in self._kept[:MOST_OPEN]]
            # No more than a few lie ready, however slow they are taken.
            coming: deque[Future[Strip]] = deque()
            try:
                for first in firsts:
                    coming.append(several.submit(self._strip, first, min(first + self._rows, height)))
                    if len(coming) > 2 * CORES:
                        yield coming.popleft().result()
                while coming:
                    yield coming.popleft().result()
            finally:
                for future in coming:
                    future.cancel()

    def _strip(self, first: int, last: int) -> Strip:
        # Loaded when it is needed: it takes as long as a sixth of a start.
        from grayshelf.core.masters.tiles import (
            MOST_WHOLE,
            NEAREST_BYTES,
            block_of,
            combine_numbers,
            combine_scaled,
            combine_whole,
            median_of_whole,
            networks,
        )

        n, width = len(self._sources), self._sources[0].width
        size = (last - first) * width
        out, difference = np.empty(size, np.float32), np.empty(-(-size // self._spare), np.float32)
        left_out = np.zeros(n, np.int64)
        clip, pairs, spare = self._clip, networks(n), self._spare
        room = self._rooms.get()
        try:
            if not self._kept:
                stack = self._numbers(room, first, last)
                combine_numbers(stack, clip, block_of(n, 4), pairs, out, difference, spare, left_out)
            elif self._scales is None and self._pedestal is None and n < MOST_WHOLE:
                kept = self._as_kept(room, first, last)
                if clip.median_only and clip.how == NO_CLIPPING:
                    wide = block_of(n, 2, NEAREST_BYTES)
                    median_of_whole(kept, wide, pairs, out, difference, spare)
                else:
                    combine_whole(kept, clip, block_of(n, 2), pairs, out, difference, spare, left_out)
            else:
                kept, dark = self._as_kept(room, first, last), np.empty(0, np.float32)
                if self._pedestal is not None:
                    dark = np.asarray(self._pedestal.rows(first, last), np.float32).ravel()
                scales = np.ones(n) if self._scales is None else self._scales[:, 0, 0]
                by, wide = scales.astype(np.float32), block_of(n, 4)
                combine_scaled(kept, by, dark, clip, wide, pairs, out, difference, spare, left_out)
        finally:
            self._rooms.put(room)
        return Strip(first, out.reshape(-1, width), difference, left_out)

    def _as_kept(self, room: NDArray[np.uint8], first: int, last: int) -> NDArray[np.uint16]:
        """The stack's samples as they lie in their files, shape (frames, pixels)."""
        n, width = len(self._sources), self._sources[0].width
        size = (last - first) * width
        kept = room.view(np.uint16)[: n * size].reshape(n, last - first, width)
        with self._reading:
            for i, source in enumerate(self._kept):
                if i < len(self._open):
                    self._open[i].read(first, kept[i])
                else:
                    with source.raw_rows() as rows:
                        rows.read(first, kept[i])
        if sys.byteorder == "big":
            kept.byteswap(inplace=True)
        return kept.reshape(n, size)

    def _numbers(self, room: NDArray[np.uint8], first: int, last: int) -> Floats:
        """The stack's samples as they are combined, shape (frames, pixels)."""
        n, width = len(self._sources), self._sources[0].width
        size = (last - first) * width
        stack = room.view(np.float32)[: n * size].reshape(n, last - first, width)
        dark = self._pedestal.rows(first, last) if self._pedestal is not None else None
        for i, source in enumerate(self._sources):
            rows = source.rows(first, last)
            if dark is None:
                stack[i] = rows
            else:
                np.subtract(rows, dark, out=stack[i])
            if self._scales is not None:
                scale_rows(stack[i], self._scales[i], first)
        return stack.reshape(n, size)


def scale_rows(rows: Floats, scales: NDArray[np.float64], first_row: int) -> None:
    """Multiply rows in place by the factors of the places of their colour pattern, shape (side, side)."""
    if np.all(scales == scales[0, 0]):
        rows *= np.float32(scales[0, 0])
        return
    times_by_place(rows, scales, first_row)
