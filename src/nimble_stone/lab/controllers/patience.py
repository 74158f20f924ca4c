"""How long stand-ins ask a server that is away."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from typing import TypeVar

import aiohttp

TRIES, PAUSE_S = 160, 0.25
"""How often a server that is away is asked again, and how long it waits between."""
T = TypeVar("T")


async def kept_at(attempt: Callable[[], Awaitable[T]]) -> T:
    """As controllers, the inspection system and installers do: a server that is away is asked again
    for a while. Raises what the last attempt raised.
    """
    for _ in range(TRIES - 1):
        try:
            return await attempt()
        except (OSError, aiohttp.ClientError):
            await asyncio.sleep(PAUSE_S)
    return await attempt()
