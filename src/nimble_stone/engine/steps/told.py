"""What an answer lacks of what is wanted."""

from __future__ import annotations

from collections.abc import Mapping

from nimble_stone.core import reply
from nimble_stone.core.kit.calls import Call
from nimble_stone.core.redaction import shortened
from nimble_stone.core.reply import Reply
from nimble_stone.engine.filling import Filler, fill, fill_reading


def unmet(answer: Reply, wanted: Mapping[str, str]) -> str:
    """What of an answer is not as it should be, both side by side, '' when all is."""
    for what, value in wanted.items():
        found = reply.read(answer, what)
        if found != value:
            got = "nothing" if found is None else f"“{shortened(found, 80)}”"
            return f"wanted {what} = “{shortened(value, 80)}”, got {got}"
    return ""


async def lacking(
    c: Filler, answer: Reply, call: Call, known: Mapping[str, str] | None = None
) -> str:
    """The same for what a call confirms, its templates filled in; `known`: what they stand for
    besides what the sheet has.
    """
    wanted = {
        await fill_reading(c, what, known): await fill(c, text, known=known)
        for what, text in call.confirm.items()
    }
    return unmet(answer, wanted)
