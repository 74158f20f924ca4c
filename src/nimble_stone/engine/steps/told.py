"""What an answer lacks of what a call wants."""

from __future__ import annotations

from nimble_stone.core import reply
from nimble_stone.core.kit.calls import Call
from nimble_stone.core.reply import Reply
from nimble_stone.engine.filling import fill
from nimble_stone.engine.steps.context import Context


async def lacking(c: Context, answer: Reply, call: Call) -> str:
    """What of an answer is not as the call wants it, both side by side, '' when all is."""
    for what, template in call.confirm.items():
        wanted, found = await fill(c, template), reply.read(answer, what)
        if found != wanted:
            got = "nothing" if found is None else f"“{found[:80]}”"
            return f"wanted {what} = “{wanted[:80]}”, got {got}"
    return ""
