"""Answers of the operating system that are remembered for one session: what is mounted, and whose home is where.

Asking each time would cost more than most of what is done with them; keeping them longer would be wrong in a process
that runs for months.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any, TypeVar, cast

Function = TypeVar("Function", bound=Callable[..., Any])
_REMEMBERING: list[Callable[[], None]] = []


def for_a_session(function: Function) -> Function:
    """Remember what a function returns, until the next session begins."""
    remembering = lru_cache(maxsize=4_096)(function)
    _REMEMBERING.append(remembering.cache_clear)
    return cast(Function, remembering)


def forget_all() -> None:
    """Forget all that was remembered: a session begins, another account is meant, or a volume was mounted."""
    for forget in _REMEMBERING:
        forget()
