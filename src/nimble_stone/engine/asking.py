"""Asking what a kit's own acceptance checks want to know."""

from __future__ import annotations

import asyncio
import math
from collections.abc import Mapping, Sequence

from nimble_stone.core import shell_words
from nimble_stone.core.acceptance import Answer, Subject
from nimble_stone.core.acceptance.asked import PREFIX, Closed, Pair, pairs
from nimble_stone.core.acceptance.series import Seen
from nimble_stone.core.errors import StoneError
from nimble_stone.core.kit.checks import NODES, AcceptanceCheck
from nimble_stone.core.kit.systems import ITSELF
from nimble_stone.core.plan.sheet import Node, holding, reached
from nimble_stone.engine.filling import read
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.engine.outside import Outside
from nimble_stone.engine.peers import At, asked
from nimble_stone.engine.speaking import Speaker, usual_port
from nimble_stone.engine.workload import Workload
from nimble_stone.hosts.node import NodeAccess, NodeDoor
from nimble_stone.ports.ports import Ports
from nimble_stone.reach.calls import Ask, Place

Answers = dict[str, Answer]
SIDE_BY_SIDE = 16
SERIES_S = 120.0
AT_ONCE = 60
"""Questions that a node asks side by side: small SSH servers end the connection at a command of
9,000 bytes, and a node has its processes.
"""
PORT_OPENS = """\
port_opens() {
  nc -z -w 2 "$1" "$2" && return
  timeout 2 bash -c ": </dev/tcp/$1/$2" && return
  timeout 4 nc -w 2 "$1" "$2" </dev/null
  case $? in 0|124|143) true ;; *) false ;; esac
}
"""
"""Whether a port takes a connection, by what a node has: nc, bash, or the nc of BusyBox, which
knows no -z and stays until the other side ends (124, 143: it was ended by then).
"""


def own(run: FrozenRun, node: Node | None) -> list[AcceptanceCheck]:
    """The kit's own checks of a node; of the cluster for None."""
    of = "node" if node else "cluster"
    about = node or run.sheet.nodes[0]
    kinds = ("call", "closed", "redirect", "reach", "series", "workload")
    return [
        one
        for one in run.sheet.kit.acceptance
        if one.kind in kinds
        and one.of == of
        and (node is None or not one.roles or node.has_any(one.roles))
        and holding(run.sheet, [about], one.when)
    ]


async def ask(ports: Ports, run: FrozenRun, node: Node | None) -> Answers:
    """What was found, by check."""
    wanted = own(run, node)
    at = At(ports, run, node or run.sheet.nodes[0])
    found = await asyncio.gather(*(_one(at, check) for check in wanted))
    return {f"{PREFIX}{check.id}": answer for check, answer in zip(wanted, found, strict=True)}


async def _one(at: At, check: AcceptanceCheck) -> Answer:
    try:
        if check.kind == "closed":
            return await _closed(at, check)
        if check.kind == "redirect":
            return await _redirect(at, check)
        if check.kind == "reach" and check.source != NODES:
            return await Outside(at.ports, at.run, check).reach()
        if check.kind == "reach":
            return await _reach(at, check)
        if check.kind == "series":
            return await _series(at, check)
        if check.kind == "workload":
            return await Workload(at.ports, at.run, check).round()
        return await _call(at, check)
    except StoneError as error:
        return Answer(None, check.label, unknown=str(error))


async def _question(at: At, check: AcceptanceCheck) -> str:
    """What is asked, and whom."""
    call = check.call
    assert call is not None
    peer = asked(at, check.asks)
    if call.ssh:
        return call.words() if check.asks == ITSELF else f"{peer.name}, {call.words()}"
    place = await peer.place(usual_port(call))
    return call.words(place.url if call.path else f"{place.address}:{place.port}")


async def _series(at: At, check: AcceptanceCheck) -> Answer:
    """The same question again and again, one after the other, for 2 minutes at most."""
    call = check.call
    assert call is not None
    values: list[float] = []
    end = at.ports.monotonic() + SERIES_S
    for _ in range(check.times):
        if at.ports.monotonic() > end:
            break
        answer = await Speaker(at, peer=asked(at, check.asks)).send(call)
        try:
            value = float(await read(at, answer, check.value or "ms:") or "nan")
        except ValueError:
            value = math.nan
        values += [value] if math.isfinite(value) else []
    missing = check.times - len(values)
    how = f"{await _question(at, check)}, {check.value or 'ms:'}, {check.times} times"
    return Answer(Seen(tuple(values), missing, check.unit), how)


async def _call(at: At, check: AcceptanceCheck) -> Answer:
    """The exact question and what of the answer is compared."""
    call = check.call
    assert call is not None
    how = await _question(at, check)
    answer = await Speaker(at, peer=asked(at, check.asks)).send(call)
    if not check.value:
        return Answer(str(answer.status), how)
    value = await read(at, answer, check.value)
    return Answer(value, f"{how}, {check.value}", f"no {check.value} in the answer")


async def _closed(at: At, check: AcceptanceCheck) -> Answer:
    address = reached(at.run.sheet.kit, at.node)
    seen = await asyncio.gather(*(at.ports.reach.port_open(address, port) for port in check.ports))
    found = tuple(Closed(port, is_open) for port, is_open in zip(check.ports, seen, strict=True))
    return Answer(found, ", ".join(f"connect {address}:{port}" for port in check.ports))


async def _redirect(at: At, check: AcceptanceCheck) -> Answer:
    address, port = reached(at.run.sheet.kit, at.node), check.ports[0] if check.ports else 80
    how = f"GET http://{address}:{port}/"
    answer = await at.ports.reach.ask(Place(address, port), Ask("GET", "/"))
    location = answer.headers.get("location", "")
    if not 300 <= answer.status < 400:
        return Answer(None, how, f"status {answer.status}, no redirection")
    return Answer(location, how)


async def _reach(at: At, check: AcceptanceCheck) -> Answer:
    """Each node asks all others, by one echo request or one connection to each port, all side by
    side. Where one cannot be asked, what the others reach is known all the same.
    """
    sheet = at.run.sheet
    wanted = pairs(Subject(sheet, None, check)) or ()
    by_name = {node.name: node for node in sheet.nodes}
    targets: dict[str, list[str]] = {}
    for pair in wanted:
        targets.setdefault(pair.source, []).append(pair.target)
    gate, silent = asyncio.Semaphore(SIDE_BY_SIDE), dict[str, str]()

    async def from_one(name: str, others: Sequence[str]) -> list[Pair]:
        async with gate:
            addresses = {reached(sheet.kit, by_name[one]): one for one in others}
            try:
                if check.ports:
                    return await _connections(at, by_name[name], addresses, check.ports)
                lines = await _pings(at, by_name[name], list(addresses), check.size)
            except StoneError as error:
                silent[name] = str(error)
                return [Pair(name, one, reached=False, asked=False) for one in others]
            answered = {addresses[line] for line in lines if line in addresses}
            return [Pair(name, one, one in answered) for one in others]

    found = await asyncio.gather(*(from_one(name, others) for name, others in targets.items()))
    size = f" of {check.size} bytes" if check.size else ""
    what = f"connect to port {', '.join(map(str, check.ports))}" if check.ports else f"ping{size}"
    how = f"{what} from each node to each other, by SSH"
    seen = tuple(pair for some in found for pair in some)
    if silent and not any(pair.asked and not pair.reached for pair in seen):
        # nothing is lost as far as is known
        return Answer(None, how, unknown="; ".join(silent.values())[:300])
    return Answer(seen, how)


async def _door(at: At, node: Node) -> NodeDoor:
    kit, ports = at.run.sheet.kit, at.ports
    password = await ports.open_for_plan(at.run.sheet.plan.name, node.value(kit.admin_password))
    access = NodeAccess(node.name, reached(kit, node), kit.service.port, kit.admin, password)
    return NodeDoor(ports.reach, access)


async def _pings(at: At, node: Node, addresses: list[str], size: int) -> list[str]:
    """Those of the addresses that answer a node."""
    large = f"-M do -s {max(0, size - 28)} " if size else ""
    asked = [f"ping -c 1 -W 2 {large}{shell_words.word(one)}" for one in addresses]
    return await _told(await _door(at, node), asked, addresses)


async def _connections(
    at: At, node: Node, addresses: Mapping[str, str], ports: Sequence[int]
) -> list[Pair]:
    """Which ports of other nodes take a node's connections, all side by side."""
    wanted = [(address, port) for address in addresses for port in ports]
    asked = [f"port_opens {shell_words.word(address)} {port}" for address, port in wanted]
    marks = [f"{address}:{port}" for address, port in wanted]
    open_ones = set(await _told(await _door(at, node), asked, marks, PORT_OPENS))
    found = []
    for address, name in addresses.items():
        shut = tuple(port for port in ports if f"{address}:{port}" not in open_ones)
        found.append(Pair(node.name, name, not shut, shut))
    return found


async def _told(
    door: NodeDoor, commands: Sequence[str], marks: Sequence[str], before: str = ""
) -> list[str]:
    """The marks of those commands that succeed on a node, all side by side; `before`: what the
    shell is told first.
    """
    asked = [
        f"({{ {command}; }} >/dev/null 2>&1 && echo {shell_words.word(mark)}) &"
        for command, mark in zip(commands, marks, strict=True)
    ]
    told: list[str] = []
    for start in range(0, len(asked), AT_ONCE):
        each = " ".join(asked[start : start + AT_ONCE])
        told += await door.lines(f"{before}{each} wait; true")
    return told
