"""Answers that are kept: worked out once, by whoever comes first, while others who ask the same wait for it; and what is
made of rows, made anew only for rows that changed."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from hashlib import blake2b
from threading import Condition, Lock
from typing import Any, Generic, ParamSpec, Protocol, TypeVar, cast

import msgspec
from cachetools import LRUCache, cached

P = ParamSpec("P")
R = TypeVar("R", covariant=True)
V = TypeVar("V")


class Kept(Protocol[P, R]):
    """A function whose answers are kept."""

    def __call__(self, *args: P.args, **kwargs: P.kwargs) -> R:
        """The answer, kept or worked out."""
        ...

    def cache_clear(self) -> None:
        """Forget all answers."""
        ...


def kept(most: int) -> Callable[[Callable[P, R]], Kept[P, R]]:
    """Keep the `most` answers that were asked for last."""

    def wrap(function: Callable[P, R]) -> Kept[P, R]:
        cache: LRUCache[object, R] = LRUCache(most)
        return cast(Kept[P, R], cached(cache, condition=Condition())(function))

    return wrap


class RowsKept(Generic[V]):
    """What was made of rows of the database, by the row's number."""

    def __init__(self) -> None:
        """Nothing is kept yet."""
        self._lock = Lock()
        self._kept: Mapping[int, tuple[bytes, V]] = {}
        self._before: Callable[[], Mapping[int, tuple[bytes, V]]] | None = None

    def all(self) -> Mapping[int, tuple[bytes, V]]:
        """What is kept, with what tells whether its row is as before; to be put back after a restart."""
        with self._lock:
            self._take_back()
            return self._kept

    def put_back(self, before: Callable[[], Mapping[int, tuple[bytes, V]]]) -> None:
        """What was kept before a restart, taken when it is needed first; where a row is another by now, it is made
        anew as ever."""
        with self._lock:
            self._before = before

    def _take_back(self) -> None:
        if self._before is not None:
            self._kept, self._before = self._before(), None

    def renewed(
        self, rows: Mapping[int, tuple[Any, ...]], make: Callable[[Sequence[int]], Mapping[int, V]]
    ) -> list[V]:
        """What is made of these rows, in their order.

        Parameters
        ----------
        rows
            By number, as the database has them: where they are as before, so is what was made of them.
        make
            Makes what is to be made anew. What it leaves out is left out.
        """
        with self._lock:
            self._take_back()
            now = {i: _digest(row) for i, row in rows.items()}
            anew = [i for i in rows if i not in self._kept or self._kept[i][0] != now[i]]
            made = make(anew) if anew else {}
            kept = {i: self._kept[i] for i in rows if i in self._kept}
            kept.update({i: (now[i], made[i]) for i in anew if i in made})
            for i in anew:
                if i not in made:
                    kept.pop(i, None)
            self._kept = kept
            return [kept[i][1] for i in rows if i in kept]


def _digest(row: tuple[Any, ...]) -> bytes:
    return blake2b(msgspec.msgpack.encode(row), digest_size=16).digest()


def in_parts(ids: Sequence[V], most: int = 500) -> list[Sequence[V]]:
    """Numbers, or paths, in parts that one question to the database may hold."""
    return [ids[i : i + most] for i in range(0, len(ids), most)]
