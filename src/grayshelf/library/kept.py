"""Answers that are kept: worked out once, by whoever comes first, while others who ask the same wait for it."""

from __future__ import annotations

from collections.abc import Callable
from threading import Condition
from typing import ParamSpec, Protocol, TypeVar, cast

from cachetools import LRUCache, cached

P = ParamSpec("P")
R = TypeVar("R", covariant=True)


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
