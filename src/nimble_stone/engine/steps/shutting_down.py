"""Having a node's system shut down, wherever it lives."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.engine.steps.context import Context, options_of

LOOK_S, AGAIN_S = 2.0, 8.0
"""Between two looks whether a system has shut down, and until it is asked again."""


async def until_off(
    c: Context,
    runs: Callable[[], Awaitable[bool]],
    ask: Callable[[], Awaitable[None]],
    cut: Callable[[], Awaitable[None]],
) -> None:
    """The node's system shuts down when asked, or its power is cut where the kit allows that.
    `runs`: whether it is on. Raises RemoteFailed where it stays on.
    """
    options, name = options_of(c), c.node.name
    asked, end = float("-inf"), c.ports.monotonic() + options.stop_s
    while await runs():
        if c.ports.monotonic() - asked > AGAIN_S:
            # a system that is busy, or boots, may miss its power button
            await ask()
            asked = c.ports.monotonic()
        left = end - c.ports.monotonic()
        if left <= 0 and options.cut:
            await cut()
            return
        if left <= 0:
            raise RemoteFailed(
                f"{name} has not shut down within {options.stop_s:g} s",
                target=name,
                hint="Shut it down yourself, then retry; or allow `cut` in the kit.",
                code="not-shut-down",
            )
        c.tell(words="shutting down", left_s=left)
        await c.ports.pause(min(LOOK_S, left))
