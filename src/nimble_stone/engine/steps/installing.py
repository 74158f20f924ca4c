"""A node that an unattended installer puts onto a bare machine: its ISO with answer files inserted,
one boot from it, and the word that it is done.
"""

from __future__ import annotations

import asyncio
import json
from functools import partial
from typing import Any

from nimble_stone.core.errors import Conflict, RemoteFailed
from nimble_stone.core.installing import answers
from nimble_stone.core.kit.installer import REPORTS, Installer
from nimble_stone.core.plan.sheet import reached
from nimble_stone.engine.filling import value
from nimble_stone.engine.preparation.inspecting import (
    asked_again,
    boot_from_medium,
    boots_from_network,
    ours,
    until_on,
    withdraw,
)
from nimble_stone.engine.steps.context import Context, Found, Kind
from nimble_stone.packages import installers
from nimble_stone.store import entries, media, records, runs
from nimble_stone.store.media import Task


def answers_entry(c: Context) -> str:
    """Keyring entry of what the installer is told."""
    return f"run/{c.run.id}/seed/{c.step.node}/answers"


def installer_of(c: Context) -> Installer | None:
    """How the step's node is installed, None where it is not."""
    role = c.run.sheet.kit.role(c.node.role)
    return role.installer if role else None


def needed(c: Context) -> Installer:
    """The same, where there must be one. Raises Conflict."""
    found = installer_of(c)
    if found is None:
        raise Conflict(f"the kit does not say how {c.node.name} is installed", code="no-installer")
    return found


def _paths(installer: Installer) -> list[str]:
    return [one.path for one in installer.answers]


class AnswerRoom:
    """The installer ISO with room for answer files."""

    async def observe(self, c: Context) -> Found | None:
        """It is there."""
        paths = _paths(needed(c))
        made = await asyncio.to_thread(installers.find, c.ports.packages, c.contents, paths)
        return {"bytes": made.size} if made else None

    async def act(self, c: Context) -> None:
        """Make it, once for all runs."""
        loop, paths = asyncio.get_running_loop(), _paths(needed(c))

        def told(done: int, total: int) -> None:
            """From the thread that writes: those who watch are woken by the event loop."""
            loop.call_soon_threadsafe(partial(c.tell, sent=done, total=total))

        async with c.ports.lock(f"installer {c.contents.sha256}"):
            work = partial(installers.make, c.ports.packages, c.contents, paths, told)
            await asyncio.to_thread(work)

    async def undo(self, c: Context) -> str:
        """It stays for other machines, until the package is removed."""
        return "the prepared installer stays with its package"


class InsertInstaller:
    """The installer, inserted, with the node's answers."""

    async def observe(self, c: Context) -> Found | None:
        """This run's is there."""
        found = await c.ports.store.read(media.of_run, c.run.id, c.step.host)
        if found is None or found.task.kind != "install":
            return None
        if found.reported_at:
            return {"way": "installed already"}
        if found.task.net:
            return {"way": "by network"} if c.acted and found.until else None
        there = await ours(c) if c.acted else []
        wanted = 2 if found.task.label else 1
        return {"slots": len(there)} if len(there) >= wanted else None

    async def act(self, c: Context) -> None:
        """Fill the answers in, seal them, and insert what holds them."""
        await insert(c)

    async def undo(self, c: Context) -> str:
        """Eject it, end its address, and forget the answers."""
        if not await c.ports.store.read(runs.acted, c.run.id, c.step.key):
            return ""
        await withdraw(c.ports, c.run.id, c.step.host)
        await c.ports.store.write(entries.drop_secrets, answers_entry(c))
        await c.host.metal.eject(await ours(c))
        return f"{c.step.host}: installer ejected"


class Install:
    """The installation, until its end is told."""

    async def observe(self, c: Context) -> Found | None:
        """It is done. Raises RemoteFailed when it failed, or ended without a word."""
        found = await c.ports.store.read(media.of_run, c.run.id, c.step.host)
        if found is None or found.task.kind != "install":
            return None
        if found.reported_at:
            return {"way": "reported"}
        if found.trouble and (c.acted or not await asked_again(c.ports, c.run.id, c.step)):
            raise RemoteFailed(
                f"{c.step.host}: {found.trouble}",
                target=c.step.host,
                hint="Retry boots the installer once more.",
                code="install-failed",
            )
        if found.trouble:
            # what it does after that, such as switching off, is no success
            return None
        c.tell(fetched=found.fetched_at > 0)
        if not found.fetched_at or not found.booted_at:
            return None
        return await self._when_off(c) if await c.host.metal.power_state() == "Off" else None

    async def _when_off(self, c: Context) -> Found | None:
        """The machine fetched the installer and is off: done, or ended without a word."""
        if needed(c).ends == "off":
            await c.ports.store.write(media.installed_on, c.run.id, c.step.host, c.ports.clock())
            return {"way": "switched itself off"}
        if c.acted or not await asked_again(c.ports, c.run.id, c.step):
            raise RemoteFailed(
                f"{c.step.host} switched itself off, and the installer did not report that it is"
                " done",
                target=c.step.host,
                hint="See its console. Retry boots the installer once more.",
                code="install-silent",
            )
        return None

    async def act(self, c: Context) -> None:
        """It goes by itself. When a person asks again, the machine boots from a new medium."""
        if await asked_again(c.ports, c.run.id, c.step):
            await insert(c)
            await boot_from_medium(c.ports, c.run.id, c.host, c.step)
            # one that is still off is not one that has ended
            await until_on(c, c.run.id)

    async def undo(self, c: Context) -> str:
        """What was written stays: a drive is wiped only by name."""
        if not await c.ports.store.read(media.switched, c.run.id, c.step.host):
            return ""
        return f"{c.step.host}: its drives keep what was installed; wipe them on the machine's page"


async def insert(c: Context) -> None:
    """Insert the installer at a new address; an earlier one ends. Raises Conflict, FormatError."""
    office, installer = c.ports.media, needed(c)
    trouble = office.unreachable() if office else "this server offers no media"
    if office is None or trouble:
        raise Conflict(f"no medium can be offered: {trouble}", code="no-media")
    facts = (await c.ports.store.read(records.load_estate)).machine_facts.get(c.step.host)
    net = await boots_from_network(c.ports, c.step.host)
    start = installer.netboot
    boots = (start.kernel, *start.initrd) if start else ()
    if net and not boots:
        raise Conflict(
            f"{c.step.host} boots from the network, which the kit does not support", code="no-media"
        )
    slots = [one for one in (facts.media if facts else ()) if {"CD", "DVD"} & set(one.kinds)]
    task = Task(
        kind="install",
        package=c.contents.sha256,
        secret=answers_entry(c),
        paths=tuple(_paths(installer)),
        label=installer.label if len(slots) > 1 and not net else "",
        net=net,
        boots=boots if net else (),
        step=f"install/{c.step.node}",
    )
    url = await office.offer(c.run.id, c.step.host, task)
    folder = url.rpartition("/")[0]
    what = await told(c, installer, folder)
    await c.ports.keep_secret(answers_entry(c), json.dumps(what), "medium")
    # a node that is made anew has a new SSH host key
    await c.ports.store.write(records.drop_pins, reached(c.run.sheet.kit, c.node))
    await c.host.metal.eject(await ours(c))
    if net:
        return
    await c.host.metal.insert(url)
    if task.label:
        await c.host.metal.insert(f"{folder}/answers.iso")


async def told(c: Context, installer: Installer, folder: str) -> dict[str, Any]:
    """What the installer is told: `files`, path → text, and the `args` of its kernel. `folder`: the
    address below which it reports. Raises FormatError for a value that a format cannot hold.
    """
    values = {name: f"{folder}/{name.partition('.')[2]}" for name in REPORTS}
    values |= {"medium.files": f"{folder}/files", "medium.iso": f"{folder}/installer.iso"}
    args = installer.netboot.args if installer.netboot else ""
    for text in (args, *(answer.text for answer in installer.answers)):
        for name in answers.names(text):
            if name not in values:
                values[name] = await value(c, name)
    files = {}
    for answer in installer.answers:
        files[answer.path] = answers.filled(answer.text, answer.format, values)
        installers.in_room(files[answer.path])
    return {"files": files, "args": answers.filled(args, "lines", values)}


KINDS: dict[str, Kind] = {
    "answer-room": AnswerRoom(),
    "insert-installer": InsertInstaller(),
    "install": Install(),
}
