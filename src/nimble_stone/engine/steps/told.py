"""What an answer lacks of what is wanted."""

from __future__ import annotations

from collections.abc import Mapping

from nimble_stone.core import reply
from nimble_stone.core.kit.calls import Call
from nimble_stone.core.reply import Reply
from nimble_stone.engine.filling import fill
from nimble_stone.engine.steps.context import Context


def unmet(answer: Reply, wanted: Mapping[str, str]) -> str:
    """What of an answer is not as it should be, both side by side, '' when all is."""
    for what, value in wanted.items():
        found = reply.read(answer, what)
        if found != value:
            got = "nothing" if found is None else f"“{found[:80]}”"
            return f"wanted {what} = “{value[:80]}”, got {got}"
    return ""


async def lacking(c: Context, answer: Reply, call: Call) -> str:
    """The same for what a call confirms, its templates filled in."""
    return unmet(answer, {what: await fill(c, text) for what, text in call.confirm.items()})
