"""Answers that are kept: worked out once, by whoever comes first, while others who ask the same wait for it; and what is
made of rows, made anew only for rows that changed."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from threading import Condition, Lock
from typing import Any, Generic, ParamSpec, Protocol, TypeVar, cast

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
        self._kept: dict[int, tuple[tuple[Any, ...], V]] = {}

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
            anew = [i for i, row in rows.items() if i not in self._kept or self._kept[i][0] != row]
            made = make(anew) if anew else {}
            kept = {i: self._kept[i] for i in rows if i in self._kept}
            kept.update({i: (rows[i], made[i]) for i in anew if i in made})
            for i in anew:
                if i not in made:
                    kept.pop(i, None)
            self._kept = kept
            return [kept[i][1] for i in rows if i in kept]


def in_parts(ids: Sequence[int], most: int = 500) -> list[Sequence[int]]:
    """Numbers in parts that one question to the database may hold."""
    return [ids[i : i + most] for i in range(0, len(ids), most)]
