"""A node that a rollback restarted is there again before the next one is restarted."""

from __future__ import annotations

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.engine.steps.context import Context
from nimble_stone.engine.steps.waiting import Services

LOOK_S = 2.0


async def back(c: Context) -> None:
    """Wait until the services of the step's node answer, as long as the kit allows. Raises
    RemoteFailed where they do not: the others keep running until a person has looked.
    """
    durations = c.run.sheet.kit.durations
    longest = durations.boot.longest + durations.services.longest
    end, services = c.ports.monotonic() + longest, Services()
    while await services.observe(c) is None:
        left = end - c.ports.monotonic()
        if left <= 0:
            raise RemoteFailed(
                f"{c.node.name} was rolled back and does not answer after {longest:g} s",
                target=c.node.name,
                code="not-back",
                hint="See its console. Rolling back again continues with the next node.",
            )
        c.tell(words=c.said or "waiting for its services", left_s=left)
        await c.ports.pause(min(LOOK_S, left))
