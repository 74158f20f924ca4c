"""What a kit asks when a node joins a cluster or leaves it: of whom, and whether it has
happened.
"""

from __future__ import annotations

from collections.abc import Mapping

from nimble_stone.core.errors import NotNow, RemoteFailed, StoneError
from nimble_stone.core.kit.calls import Call
from nimble_stone.core.kit.membership import Membership
from nimble_stone.core.kit.systems import FIRST, ITSELF
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.reply import Reply
from nimble_stone.engine import retiring
from nimble_stone.engine.filling import read
from nimble_stone.engine.peers import At, NodePeer, Peer, asked
from nimble_stone.engine.speaking import Speaker
from nimble_stone.engine.steps.context import Context
from nimble_stone.engine.steps.told import lacking

AGAIN_S = 3.0
"""Seconds until a cluster that is busy is asked again."""


def asked_of(c: Context, one: Membership) -> Peer:
    """Whom the kit says. The first node is one that stays, and stands, where there is such a one:
    who leaves cannot be asked once it is gone, and who is new may not be there yet. Raises
    RemoteFailed when there is no other node.
    """
    if one.asks != FIRST:
        return asked(c, one.asks)
    others = _others(c)
    if not others:
        raise RemoteFailed(
            f"no other node is left to be asked about {c.node.name}", target=c.node.name
        )
    return NodePeer(At(c.ports, c.run, others[0]))


def _others(c: Context) -> list[Node]:
    """The other nodes of its cluster, those that stood before this run first."""
    new = c.run.change.adds if c.run.change else ()
    others = [node for node in c.run.sheet.nodes if node.id != c.node.id]
    return sorted(others, key=lambda node: node.id in new)


async def _is_there(c: Context, node: Node) -> bool:
    """Whether a node has its VM; taken for granted where that cannot be asked."""
    if node.on_machine:
        return True
    try:
        host = await c.ports.driver(await c.ports.host(node.value("host")))
        return await host.vms.find(node.name) is not None
    except StoneError:
        return True


async def _who_is_there(c: Context, one: Membership) -> Peer | None:
    """Whom the kit says, of those whose VMs are still there; None when they are all gone."""
    if one.asks not in (FIRST, ITSELF):
        return asked_of(c, one)
    for node in [c.node] if one.asks == ITSELF else _others(c):
        if await _is_there(c, node):
            return NodePeer(At(c.ports, c.run, node))
    return None


async def happened(c: Context, one: Membership, peer: Peer | None = None) -> bool:
    """Whether what the kit says tells that it has happened; False where it says nothing. `peer`:
    who is asked instead of whom the kit says.
    """
    if one.observe is None:
        return False
    answer = await _send(c, one, one.observe, {}, peer)
    if lacks := await lacking(c, answer, one.observe):
        c.tell(words=c.ports.blank(lacks))
        return False
    return True


async def ask(c: Context, one: Membership, what: str, peer: Peer | None = None) -> None:
    """Ask for it. `what`: how an error begins; `peer`: who is asked instead of whom the kit says. A
    cluster that settles may say that it cannot at the moment: it is asked again as long as the kit
    lets it take. Raises RemoteFailed where the answer is not as it should be.
    """
    end = c.ports.monotonic() + one.wait.longest
    while True:
        try:
            await _ask(c, one, what, peer)
            return
        except NotNow as error:
            left = end - c.ports.monotonic()
            if left <= 0:
                raise
            c.tell(words=c.ports.blank(str(error)), left_s=left)
            await c.ports.pause(min(AGAIN_S, left))
        if await happened(c, one, peer):
            # it was done although the answer said otherwise
            return


async def _ask(c: Context, one: Membership, what: str, peer: Peer | None) -> None:
    found = await _found(c, one, peer)
    answer = await _send(c, one, one.call, found, peer)
    if lacks := await lacking(c, answer, one.call, found):
        raise RemoteFailed(
            f"{what}: {c.ports.blank(lacks)}",
            target=c.node.name,
            hint="See the transcript. Retry asks again.",
        )


async def _found(c: Context, one: Membership, peer: Peer | None) -> dict[str, str]:
    """What the call needs to know, as `kept.NAME`. Raises RemoteFailed where it is not told."""
    if one.finds is None:
        return {}
    answer = await _send(c, one, one.finds, {}, peer)
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


async def _send(
    c: Context, one: Membership, call: Call, known: Mapping[str, str], peer: Peer | None
) -> Reply:
    return await Speaker(c, c.record, peer=peer or asked_of(c, one)).send(call, known=known)


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
    peer = await _who_is_there(c, one)
    if peer is None:
        return f"no VM is left that {c.node.name} could leave"
    if await happened(c, one, peer):
        return ""
    await ask(c, one, f"{c.node.name} does not leave", peer)
    return f"{c.node.name} left the cluster"
