"""Reading what comes from outside (YAML, lists, tables) beside the event loop, in bounded time."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import ParamSpec, TypeVar

from nimble_stone.core.yaml_bounds import while_still

P = ParamSpec("P")
T = TypeVar("T")
SECONDS = 10.0
_readers = ThreadPoolExecutor(2, "reader")


async def aside(function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """`function(…)` in one of two threads. YAML that it reads stops with FormatError after 10 s of
    processor time: a machine that stands still for a while makes no file too slow.
    """

    def inside() -> T:
        end = time.thread_time() + SECONDS
        with while_still(lambda: time.thread_time() < end):
            return function(*args, **kwargs)

    return await asyncio.get_running_loop().run_in_executor(_readers, inside)
