"""Looking at hosts before they are added: are they there, which key do they show, does the login
work, may it use the hypervisor?

Nothing is kept by looking; a person compares the fingerprints, and only then they are pinned.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from nimble_stone.core import yaml_text
from nimble_stone.core.errors import Conflict, InputError, LoginRefused, StoneError
from nimble_stone.core.estate import Estate, EstateFile, Host, Machine
from nimble_stone.core.estate_list import Entry
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.units import count_text
from nimble_stone.engine import machines, survey
from nimble_stone.hosts.drivers import KINDS
from nimble_stone.hosts.redfish import RedfishMachine
from nimble_stone.ports.ports import Ports
from nimble_stone.reach import Credential, Target
from nimble_stone.store import entries, records, runs

SIDE_BY_SIDE = 24
Outcome = Literal[
    "fine", "limited", "refused", "unreachable", "unknown-name", "forbidden", "key-changed", "known"
]


@dataclass(frozen=True)
class Look:
    """What was found at one entry. `words` say what is wrong and what to do; `hostname` as the host
    calls itself.
    """

    entry: Entry
    address: str
    outcome: Outcome
    words: str
    fingerprint: str = ""
    hostname: str = ""


async def look(ports: Ports, entries: Sequence[Entry], user: str, credential: str) -> list[Look]:
    """Look at many hosts side by side; one that hangs does not delay the others. Raises NotFound
    when the keyring lacks the credential.
    """
    logins = {
        name: await _login(ports, name)
        for name in {entry.credential or credential for entry in entries}
    }
    estate = await ports.store.read(records.load_estate)
    pins = await ports.store.read(records.pins)
    gate = asyncio.Semaphore(SIDE_BY_SIDE)

    async def one(entry: Entry) -> Look:
        async with gate:
            secret, as_key = logins[entry.credential or credential]
            name = entry.user or ("admin" if entry.kind == "machine" and user == "root" else user)
            login = Credential(name, key=secret) if as_key else Credential(name, secret)
            try:
                async with asyncio.timeout(45):
                    return await _looked(ports, estate, pins, entry, login)
            except TimeoutError:
                return Look(
                    entry,
                    entry.address,
                    "unreachable",
                    "no answer within 45 s; check whether it is overloaded",
                )

    return list(await asyncio.gather(*(one(entry) for entry in entries)))


async def _login(ports: Ports, credential: str) -> tuple[str, bool]:
    """(the secret, whether it is a private key)."""
    secret = await ports.open_secret(credential)
    found = await ports.store.read(entries.get_secret, credential)
    return secret, bool(found and found[0] == "key")


async def _looked(
    ports: Ports, estate: Estate, pins: dict[str, str], entry: Entry, login: Credential
) -> Look:
    """What every entry is asked first: is it known, what does it show; then what its kind
    is asked.
    """
    address = entry.address or next(iter(await ports.reach.addresses(entry.name)), "")
    if not address:
        return Look(
            entry, "", "unknown-name", f"the name {entry.name} is not known here; give its address"
        )
    machine, place = entry.kind == "machine", f"{address}:{entry.port}"
    known: Sequence[Host | Machine] = estate.machines if machine else estate.hosts
    there = next((one for one in known if (one.address, one.port) == (address, entry.port)), None)
    if there is not None:
        return Look(
            entry,
            address,
            "known",
            f"it is already in the estate, as {there.name}",
            pins.get(place, ""),
            there.name,
        )
    shown = odd = ""
    try:
        if machine:
            certificate = await ports.reach.certificate(address, entry.port, ports.clock())
            shown, odd = certificate.fingerprint, certificate.odd
        else:
            shown = await ports.reach.ssh.fingerprint(address, entry.port)
        if pins.get(place, shown) != shown:
            what, where = ("certificate", "its own page") if machine else ("key", "its console")
            return Look(
                entry,
                address,
                "key-changed",
                f"it shows another {what} than the one pinned earlier ({pins[place]}); compare on"
                f" {where}",
                shown,
            )
        return await (
            _machine(ports, entry, address, login, shown, odd)
            if machine
            else _host(ports, entry, address, login, shown)
        )
    except LoginRefused as error:
        return Look(entry, address, "refused", f"{error}. {error.hint}", shown)
    except InputError as error:
        return Look(entry, address, "forbidden", f"{error}. {error.hint}")
    except StoneError as error:
        return Look(entry, address, "unreachable", str(error), shown)


async def _machine(
    ports: Ports, entry: Entry, address: str, login: Credential, shown: str, odd: str
) -> Look:
    """A management controller: its service root, the login, what it calls its machine."""
    async with ports.reach.https(address, entry.port, shown) as peer:
        facts = await RedfishMachine(
            entry.name or address, peer, login.user, login.password
        ).read_facts(ports.clock(), odd)
    words = [f"its certificate {odd}"] if odd else []
    words += [f"its controller leaves out {', '.join(facts.missing[:4])}"] if facts.missing else []
    return Look(
        entry, address, "fine", "; ".join(words), shown, f"{facts.model} {facts.serial}".strip()
    )


async def _host(ports: Ports, entry: Entry, address: str, login: Credential, shown: str) -> Look:
    """A hypervisor host: the login, whether it may use the hypervisor, and what else it may not."""
    target = Target(entry.name or address, address, entry.port, login)
    found = await KINDS["kvm"].first_look(ports.reach, target, shown)
    if found.why:
        return Look(entry, address, "limited", f"the login works, but {found.why}", shown)
    lacking = f"rights are missing: {'; '.join(found.lacking)}" if found.lacking else ""
    return Look(entry, address, "fine", lacking, shown, found.hostname)


async def add(ports: Ports, chosen: Sequence[tuple[Host, str]]) -> None:
    """Add hosts with the keys a person has confirmed, pin these, and read the hosts. Raises
    Conflict; nothing is added then.
    """
    await _pin(ports, chosen, "key")
    await ports.store.write(
        records.merge_estate, EstateFile(hosts=tuple(host for host, _ in chosen))
    )
    await survey.read_hosts(ports, [host for host, _ in chosen], {})


async def add_machines(ports: Ports, chosen: Sequence[tuple[Machine, str]]) -> None:
    """The same for machines and their certificates."""
    await _pin(ports, chosen, "certificate")
    await ports.store.write(
        records.merge_estate, EstateFile(machines=tuple(machine for machine, _ in chosen))
    )
    await machines.read(ports, [machine for machine, _ in chosen], {})


async def _pin(
    ports: Ports, chosen: Sequence[tuple[Host, str]] | Sequence[tuple[Machine, str]], what: str
) -> None:
    """Pin what was confirmed for all of them, or for none.

    Raises: Conflict when a name or an address is taken, or another key or certificate was pinned
    for an address.
    """
    estate, pins = await ports.store.read(records.load_estate), await ports.store.read(records.pins)
    there: list[Host | Machine] = [*estate.hosts, *estate.machines]
    names, places = (
        {item.name for item in there},
        {(item.address, item.port): item.name for item in there},
    )
    for item, fingerprint in chosen:
        if item.name in names:
            raise Conflict(
                f"the estate has a {item.name} already",
                code="host-exists",
                hint="Give it another name.",
            )
        if (item.address, item.port) in places:
            raise Conflict(
                f"{item.address}:{item.port} is in the estate already, as"
                f" {places[item.address, item.port]}",
                code="host-exists",
            )
        if (
            not fingerprint
            or pins.get(f"{item.address}:{item.port}", fingerprint) != fingerprint
            or (what == "certificate" and not fingerprint.startswith("SHA256 "))
        ):
            raise Conflict(
                f"the {what} of {item.name} was not confirmed, or another key was pinned earlier",
                code="key-unconfirmed",
                hint="Check it again.",
            )
        names.add(item.name)
        places[item.address, item.port] = item.name
    for item, fingerprint in chosen:
        await ports.store.write(
            records.put_pin, f"{item.address}:{item.port}", fingerprint, ports.clock()
        )


async def needs(ports: Ports, name: str) -> list[str]:
    """Why a host may not leave the estate: plans that name it, guests of ours that stand on it."""
    found = []
    for row in await ports.store.read(records.plans):
        try:
            plan = yaml_text.read(row.text, Plan, "the plan")
        except StoneError:
            continue
        if any(
            values.get("host") == name
            for values in (
                plan.values,
                *(block.values for block in plan.roles.values()),
                *plan.nodes.values(),
            )
        ):
            found.append(f"plan {row.id} names it")
    for run in await ports.store.read(runs.runs, active=True, kind="groundwork"):
        if any(item["host"] == name for item in run.doc["steps"]):
            found.append(f"preparation run {run.id} is running on it")
    for run in await ports.store.read(runs.runs):
        if run.state != "undone":
            count = sum(
                values.get("host") == name for values in run.doc["plan"].get("nodes", {}).values()
            )
            if count:
                found.append(f"{count_text(count, 'guest')} of run {run.id} ({run.plan}) on it")
    return found
