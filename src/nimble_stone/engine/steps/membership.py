"""What a kit asks when a node joins a cluster or leaves it: of whom, and whether it has
happened.
"""

from __future__ import annotations

from collections.abc import Mapping

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.kit.calls import Call
from nimble_stone.core.kit.membership import Membership
from nimble_stone.core.kit.systems import FIRST, ITSELF
from nimble_stone.core.reply import Reply
from nimble_stone.engine import retiring
from nimble_stone.engine.filling import read
from nimble_stone.engine.peers import At, NodePeer, Peer, asked
from nimble_stone.engine.speaking import Speaker
from nimble_stone.engine.steps.context import Context
from nimble_stone.engine.steps.told import lacking


def asked_of(c: Context, one: Membership) -> Peer:
    """Whom the kit says. The first node is one that stays, and stands, where there is such a one:
    who leaves cannot be asked once it is gone, and who is new may not be there yet. Raises
    RemoteFailed when there is no other node.
    """
    if one.asks != FIRST:
        return asked(c, one.asks)
    others = [node for node in c.run.sheet.nodes if node.id != c.node.id]
    new = c.run.change.adds if c.run.change else ()
    standing = [node for node in others if node.id not in new]
    if not others:
        raise RemoteFailed(
            f"no other node is left to be asked about {c.node.name}", target=c.node.name
        )
    return NodePeer(At(c.ports, c.run, (standing or others)[0]))


async def happened(c: Context, one: Membership) -> bool:
    """Whether what the kit says tells that it has happened; False where it says nothing."""
    if one.observe is None:
        return False
    answer = await _send(c, one, one.observe, {})
    if lacks := await lacking(c, answer, one.observe):
        c.tell(words=c.ports.blank(lacks))
        return False
    return True


async def ask(c: Context, one: Membership, what: str) -> None:
    """Ask for it. `what`: how an error begins. Raises RemoteFailed where the answer is not as it
    should be.
    """
    found = await _found(c, one)
    answer = await _send(c, one, one.call, found)
    if lacks := await lacking(c, answer, one.call, found):
        raise RemoteFailed(
            f"{what}: {c.ports.blank(lacks)}",
            target=c.node.name,
            hint="See the transcript. Retry asks again.",
        )


async def _found(c: Context, one: Membership) -> dict[str, str]:
    """What the call needs to know, as `kept.NAME`. Raises RemoteFailed where it is not told."""
    if one.finds is None:
        return {}
    answer = await _send(c, one, one.finds, {})
    found = {}
    for name, what in one.finds.keep.items():
        value = await read(c, answer, what)
        if not value:
            raise RemoteFailed(
                f"{one.label}: wanted {what} about {c.node.name}, got nothing",
                target=c.node.name,
                hint="See the transcript. Retry asks again.",
            )
        found[f"kept.{name}"] = value
    return found


async def _send(c: Context, one: Membership, call: Call, known: Mapping[str, str]) -> Reply:
    return await Speaker(c, c.record, peer=asked_of(c, one)).send(call, known=known)


async def taken_out(c: Context, begun: str) -> str:
    """A node that was added to a cluster which stays leaves it, where the kit says how: as the
    entry of `leaving` says that reverts `begun`, an entry of `joining` or a setup step. What was
    done, '' nothing.
    """
    if c.run.change is None or c.node.id not in c.run.change.adds:
        return ""
    one = next((one for one in c.run.sheet.kit.leaving if one.undoes == begun), None)
    if one is None or (
        one.asks in (FIRST, ITSELF) and await retiring.asked(c.ports, c.run.sheet.plan.name)
    ):
        # where all of the cluster goes, nobody of it is asked
        return ""
    if await happened(c, one):
        return ""
    await ask(c, one, f"{c.node.name} does not leave")
    return f"{c.node.name} left the cluster"
