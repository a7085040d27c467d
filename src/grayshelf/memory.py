"""Memory that goes back to the system when it is no longer used."""

from __future__ import annotations

import ctypes

#: What glibc's mallopt(3) calls the most arenas there may be.
_M_ARENA_MAX = -8
ARENAS = 2


def share_arenas() -> None:
    """Let all threads take their memory from two arenas: with one of its own for each, what one has let go of is not there
    for the others, and a server with many threads holds half as much again. Only where the C library has such a choice;
    to be called before threads begin.
    """
    try:
        ctypes.CDLL(None).mallopt(_M_ARENA_MAX, ARENAS)
    except (AttributeError, OSError, TypeError):
        return
