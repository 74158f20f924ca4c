"""A VM that an unattended installer sets up: its medium with the answers, the word that it is done,
and its medium taken out.
"""

from __future__ import annotations

import asyncio
import hashlib
import json
from collections.abc import Iterator

from nimble_stone.core.errors import Conflict, RemoteFailed
from nimble_stone.core.kit.installer import Installer
from nimble_stone.engine.preparation.inspecting import asked_again
from nimble_stone.engine.steps import disks, installing, vms
from nimble_stone.engine.steps.context import Context, Found, Kind, remove_volume
from nimble_stone.engine.steps.installer_media import medium_volume
from nimble_stone.packages import installers, transfer
from nimble_stone.store import entries, media
from nimble_stone.store.media import Task


async def _address(c: Context, installer: Installer) -> str:
    """The folder of this installation's reports: a new one for each medium that is made. '' where
    the installer tells its end by switching off. Raises Conflict.
    """
    if installer.ends != "report":
        return ""
    office = c.ports.media
    trouble = office.unreachable() if office else "this server offers no media"
    if office is None or trouble:
        raise Conflict(f"the installer cannot report: {trouble}", code="no-media")
    task = Task(
        kind="install",
        package=c.contents.sha256,
        secret=installing.answers_entry(c),
        label=installer.label,
        step=f"install-vm/{c.step.node}",
    )
    url = await office.offer(c.run.id, c.node.name, task)
    return url.rpartition("/")[0]


class InstallerMedium:
    """The node's answers on a datastore."""

    async def observe(self, c: Context) -> Found | None:
        """They are there, sent whole by this attempt."""
        if not c.acted:
            return None
        volume = await c.host.storage.volume(c.step.datastore, medium_volume(c))
        if volume is None:
            return None
        digest = await c.host.storage.digest(volume.path)
        return {"bytes": volume.capacity_bytes} if digest == c.answer.get("sha256") else None

    async def act(self, c: Context) -> None:
        """Fill the answers in, and send the medium that holds them. Raises Conflict, FormatError,
        RemoteFailed where the installer's own copy is gone.
        """
        installer = installing.needed(c)
        told = await installing.told(c, installer, await _address(c, installer))
        await c.ports.keep_secret(installing.answers_entry(c), json.dumps(told), "medium")
        files: dict[str, str] = told["files"]
        name, digest = medium_volume(c), hashlib.sha256()
        await c.host.storage.refresh(c.step.datastore)
        await remove_volume(c, name)
        if installer.label:
            image = await asyncio.to_thread(installers.labelled, files, installer.label)
            size, pieces = len(image), iter([image])
        else:
            paths = [one.path for one in installer.answers]
            made = await asyncio.to_thread(installers.find, c.ports.packages, c.contents, paths)
            if made is None:
                raise RemoteFailed(
                    "the prepared installer is gone from this server",
                    target=c.host.name,
                    hint="Retry the step Prepare installer.",
                )
            size, pieces = made.size, installers.with_answers(made, files)
        await c.host.storage.create_image(c.step.datastore, name, size)
        await c.host.storage.upload(
            c.step.datastore,
            name,
            transfer.pieces(_digested(pieces, digest), lambda _: None),
            limit_s=transfer.LIMIT_S,
            sent=c.transfer(size),
        )
        c.answer["sha256"] = digest.hexdigest()

    async def undo(self, c: Context) -> str:
        """Remove it; what it said is forgotten."""
        await c.ports.store.write(media.withdraw, c.run.id, c.node.name)
        await c.ports.store.write(entries.drop_secrets, installing.answers_entry(c))
        gone = await remove_volume(c, medium_volume(c))
        return f"answers of {c.node.name} removed" if gone else ""


def _digested(pieces: Iterator[bytes], digest: hashlib._Hash) -> Iterator[bytes]:
    for piece in pieces:
        digest.update(piece)
        yield piece


class InstallVm:
    """The installation, until its end is told."""

    async def observe(self, c: Context) -> Found | None:
        """It is done. Raises RemoteFailed when it failed, or ended without a word."""
        installer = installing.needed(c)
        runs = await c.host.vms.running(c.node.name)
        if installer.ends == "off":
            # it was started before this step; that it is off is the end
            return None if runs else {"way": "switched itself off"}
        found = await c.ports.store.read(media.of_run, c.run.id, c.node.name)
        if found is not None and found.reported_at:
            return {"way": "reported"}
        again = not c.acted and await asked_again(c.ports, c.run.id, c.step)
        if again:
            return None
        if found is not None and found.trouble:
            raise RemoteFailed(
                f"{c.node.name}: {found.trouble}",
                target=c.host.name,
                hint="Retry installs once more, onto a blank disk.",
                code="install-failed",
            )
        if not runs:
            raise RemoteFailed(
                f"{c.node.name} switched itself off, and the installer did not report that it is"
                " done",
                target=c.host.name,
                hint="See its console. Retry installs once more, onto a blank disk.",
                code="install-silent",
            )
        return None

    async def act(self, c: Context) -> None:
        """It goes by itself. When a person asks again, it begins anew."""
        if await asked_again(c.ports, c.run.id, c.step):
            await _anew(c)

    async def undo(self, c: Context) -> str:
        """What was installed goes with the disk."""
        return ""


async def _anew(c: Context) -> None:
    """The same VM once more, with a blank disk and a new medium."""
    await c.host.vms.remove(c.node.name, c.run.id)
    for kind in (disks.KINDS["clone"], InstallerMedium(), vms.KINDS["define"], vms.KINDS["start"]):
        await kind.act(c)


class VmEject:
    """The VM without its installer: its media are gone, and it runs."""

    async def observe(self, c: Context) -> Found | None:
        """Nothing is inserted any more, and it runs."""
        there = await c.host.vms.media(c.node.name)
        return None if there or not await c.host.vms.running(c.node.name) else {}

    async def act(self, c: Context) -> None:
        """Eject, remove what only this node had, and start it where the installer switched it
        off.
        """
        await c.host.vms.eject(c.node.name)
        await remove_volume(c, medium_volume(c))
        await c.ports.store.write(entries.drop_secrets, installing.answers_entry(c))
        if not await c.host.vms.running(c.node.name):
            await c.host.vms.start(c.node.name)

    async def undo(self, c: Context) -> str:
        """Nothing was made."""
        return ""


KINDS: dict[str, Kind] = {
    "installer-medium": InstallerMedium(),
    "install-vm": InstallVm(),
    "vm-eject": VmEject(),
}
