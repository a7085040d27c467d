"""Doing something to many files, several at a time where the disk is what one waits for."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Generator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

Of = TypeVar("Of")
Done = TypeVar("Done")

#: So many at a time, and so many ahead of the one that is asked for.
AT_A_TIME, AHEAD = 8, 64
#: After so many it is known what each waits for ...
TRIED = 16
#: ... and from this on it is the disk: a share on the network, or one that turns. Where it answers at once, several at a time
#: only stand in each other's way.
SLOW_S = 0.002


def ahead(do: Callable[[Of], Done], many: Sequence[Of]) -> Generator[Done, None, None]:
    """What comes of each, in their order. Closed before its end, it begins no more of them."""
    waited_s = 0.0
    for one in many[:TRIED]:
        begun, worked = time.perf_counter(), time.thread_time()
        done = do(one)
        waited_s += (time.perf_counter() - begun) - (time.thread_time() - worked)
        yield done
    rest = many[TRIED:]
    if waited_s < TRIED * SLOW_S:
        for one in rest:
            yield do(one)
    else:
        yield from _several_at_a_time(do, rest)


def _several_at_a_time(do: Callable[[Of], Done], many: Sequence[Of]) -> Generator[Done, None, None]:
    pool = ThreadPoolExecutor(AT_A_TIME, "ahead")
    try:
        coming = deque[Future[Done]]()
        for one in many:
            coming.append(pool.submit(do, one))
            if len(coming) == AHEAD:
                yield coming.popleft().result()
        while coming:
            yield coming.popleft().result()
    finally:
        pool.shutdown(cancel_futures=True)
