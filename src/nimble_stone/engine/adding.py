"""Looking at hosts before they are added: are they there, which key do they show, does the login work, may it use the hypervisor?

Nothing is kept by looking; a person compares the fingerprints, and only then they are pinned.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from nimble_stone.core import yaml_text
from nimble_stone.core.errors import Conflict, InputError, LoginRefused, StoneError
from nimble_stone.core.estate import Estate, EstateFile, Host
from nimble_stone.core.estate_list import Entry
from nimble_stone.core.plan.model import Plan
from nimble_stone.engine import survey
from nimble_stone.engine.world import World
from nimble_stone.hosts import commands
from nimble_stone.reach import Credential, Target
from nimble_stone.store import records, runs

SIDE_BY_SIDE = 24
Outcome = Literal["fine", "limited", "refused", "unreachable", "unknown-name", "forbidden", "key-changed", "known"]


@dataclass(frozen=True)
class Look:
    """What was found at one entry. `words` say what is wrong and what to do; `hostname` as the host calls itself."""

    entry: Entry
    address: str
    outcome: Outcome
    words: str
    fingerprint: str = ""
    hostname: str = ""


async def look(world: World, entries: Sequence[Entry], user: str, credential: str) -> list[Look]:
    """Look at many hosts side by side; one that hangs delays nobody. Raises NotFound when the keyring lacks the credential."""
    secret = await world.open_secret(credential)
    found = await world.store.read(records.get_secret, credential)
    as_key = bool(found) and found[0] == "key" if found else False
    estate = await world.store.read(records.load_estate)
    pins = await world.store.read(records.pins)
    gate = asyncio.Semaphore(SIDE_BY_SIDE)

    async def one(entry: Entry) -> Look:
        async with gate:
            login = Credential(entry.user or user, key=secret) if as_key else Credential(entry.user or user, secret)
            try:
                async with asyncio.timeout(45):
                    return await _one(world, estate, pins, entry, login)
            except TimeoutError:
                return Look(entry, entry.address, "unreachable", "it took longer than 45 s to answer; see whether it is overloaded")
    return list(await asyncio.gather(*(one(entry) for entry in entries)))


async def _one(world: World, estate: Estate, pins: dict[str, str], entry: Entry, login: Credential) -> Look:
    address = entry.address
    if not address:
        known = await world.reach.addresses(entry.name)
        if not known:
            return Look(entry, "", "unknown-name", f"the name {entry.name} is not known here; give its address")
        address = known[0]
    there = next((host for host in estate.hosts if (host.address, host.port) == (address, entry.port)), None)
    if there is not None:
        return Look(entry, address, "known", f"it is in the estate already, as {there.name}", pins.get(f"{address}:{entry.port}", ""), there.name)
    shown = ""
    try:
        shown = await world.reach.ssh.fingerprint(address, entry.port)
        pinned = pins.get(f"{address}:{entry.port}")
        if pinned and pinned != shown:
            return Look(entry, address, "key-changed", f"it shows another key than the one pinned earlier ({pinned}); compare on its console", shown)
        target = Target(entry.name or address, address, entry.port, login)
        answer = await world.reach.ssh.try_out(target, shown, commands.virsh("hostname", seconds=10))
    except LoginRefused as error:
        return Look(entry, address, "refused", f"{error}. {error.hint}", shown)
    except InputError as error:
        return Look(entry, address, "forbidden", f"{error}. {error.hint}")
    except StoneError as error:
        return Look(entry, address, "unreachable", str(error), shown)
    if answer.status != 0:
        words = " ".join(line.removeprefix("error:").strip() for line in answer.err.splitlines())[:200]
        why = "virsh is not installed there" if answer.status == 127 else f"the account may not use the hypervisor: {words}"
        return Look(entry, address, "limited", f"the login works, but {why}", shown)
    return Look(entry, address, "fine", "", shown, answer.text.splitlines()[0][:120] if answer.text else "")


async def add(world: World, chosen: Sequence[tuple[Host, str]]) -> None:
    """Add hosts with the fingerprints a person has confirmed, pin these, and read the hosts.

    Raises: Conflict when a name or an address is taken, or another key was pinned for an address; nothing is added then.
    """
    estate = await world.store.read(records.load_estate)
    pins = await world.store.read(records.pins)
    names, places = {h.name for h in estate.hosts}, {(h.address, h.port): h.name for h in estate.hosts}
    for host, fingerprint in chosen:
        if host.name in names:
            raise Conflict(f"a host {host.name} is in the estate already", code="host-exists", hint="Give it another name.")
        if (host.address, host.port) in places:
            raise Conflict(f"{host.address}:{host.port} is in the estate already, as {places[host.address, host.port]}", code="host-exists")
        pinned = pins.get(f"{host.address}:{host.port}")
        if not fingerprint or (pinned and pinned != fingerprint):
            raise Conflict(f"the key of {host.name} was not confirmed, or another one was pinned earlier", code="key-unconfirmed",
                           hint="Look at the host again.")
        names.add(host.name)
        places[host.address, host.port] = host.name
    for host, fingerprint in chosen:
        await world.store.write(records.put_pin, f"{host.address}:{host.port}", fingerprint, world.clock())
    await world.store.write(records.merge_estate, EstateFile(hosts=tuple(host for host, _ in chosen)))
    await survey.read_hosts(world, [host for host, _ in chosen], {})


async def needs(world: World, name: str) -> list[str]:
    """Why a host may not leave the estate: plans that name it, guests of ours that stand on it."""
    found = []
    for row in await world.store.read(records.plans):
        try:
            plan = yaml_text.read(row.text, Plan, "the plan")
        except StoneError:
            continue
        if any(values.get("host") == name for values in (plan.values, *(block.values for block in plan.roles.values()), *plan.nodes.values())):
            found.append(f"plan {row.id} names it")
    for run in await world.store.read(runs.runs):
        if run.state != "undone":
            count = sum(values.get("host") == name for values in run.doc["plan"].get("nodes", {}).values())
            if count:
                found.append(f"{count} guests of run {run.id} ({run.plan}) stand on it")
    return found
