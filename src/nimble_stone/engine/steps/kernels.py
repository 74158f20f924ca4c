"""Files on a datastore that VMs start from: a kernel with its ramdisks, which need no boot loader,
or an installer's ISO. Once per datastore and run.
"""

from __future__ import annotations

import asyncio
import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.installing import answers
from nimble_stone.engine.filling import value
from nimble_stone.engine.steps.context import Context, Found, Kind, remove_volume
from nimble_stone.engine.steps.installer_media import installer_volume
from nimble_stone.hosts.api import KernelStart
from nimble_stone.packages import installers, stored, transfer

PIECE = 1 << 20


@dataclass(frozen=True)
class _File:
    """A volume and the files that it holds one after the other: Linux takes several ramdisks so."""

    volume: str
    paths: tuple[Path, ...]

    @property
    def size(self) -> int:
        """Bytes of all."""
        return sum(path.stat().st_size for path in self.paths)

    def pieces(self, digest: hashlib._Hash) -> Iterator[bytes]:
        """All bytes in order; each goes into the digest too."""
        for path in self.paths:
            with path.open("rb") as file:
                while piece := file.read(PIECE):
                    digest.update(piece)
                    yield piece


def _files(c: Context) -> list[_File]:
    """What the package is started from: an installer's ISO, or a kernel with its ramdisks."""
    if c.contents.format == "iso":
        iso = installers.iso_of(c.ports.packages, c.contents)
        return [_File(installer_volume(c, c.contents.sha256), (iso,))]
    kernels, ramdisks = stored.boot_files(c.ports.packages, c.contents)
    sha256 = c.contents.sha256[:12]
    found = [_File(c.volume(f"{sha256}-kernel"), tuple(kernels))]
    if ramdisks:
        found.append(_File(c.volume(f"{sha256}-ramdisk"), tuple(ramdisks)))
    return found


class BootFiles:
    """The files, as they are."""

    async def observe(self, c: Context) -> Found | None:
        """All are there, sent whole by this attempt."""
        if not c.acted:
            return None
        total = 0
        for file in await asyncio.to_thread(_files, c):
            volume = await c.host.storage.volume(c.step.datastore, file.volume)
            if volume is None:
                return None
            if await c.host.storage.digest(volume.path) != c.answer.get(file.volume):
                raise RemoteFailed(
                    f"what arrived on {c.host.name} is not what was sent ({file.volume})",
                    target=c.host.name,
                    hint="Retry; if it happens again, look at the datastore's disk.",
                )
            total += file.size
        return {"bytes": total}

    async def act(self, c: Context) -> None:
        """Send them."""
        await c.host.storage.refresh(c.step.datastore)
        for file in await asyncio.to_thread(_files, c):
            await remove_volume(c, file.volume)
            await c.host.storage.create_image(c.step.datastore, file.volume, file.size)
            digest = hashlib.sha256()
            await c.host.storage.upload(
                c.step.datastore,
                file.volume,
                transfer.pieces(file.pieces(digest), lambda _: None),
                limit_s=transfer.LIMIT_S,
                sent=c.transfer(file.size),
            )
            c.answer[file.volume] = digest.hexdigest()

    async def undo(self, c: Context) -> str:
        """Remove them."""
        gone = [await remove_volume(c, file.volume) for file in _files(c)]
        return f"boot files removed from {c.step.detail['place']}" if any(gone) else ""


async def start_of(c: Context) -> KernelStart | None:
    """How the node's VM is started without a boot loader; None where it has one. Raises
    RemoteFailed when the files are gone from the datastore.
    """
    role = c.run.sheet.kit.role(c.node.role)
    if role is None or role.image is None or not role.image.args:
        return None
    paths = []
    for file in await asyncio.to_thread(_files, c):
        volume = await c.host.storage.volume(c.step.datastore, file.volume)
        if volume is None:
            raise RemoteFailed(
                f"{file.volume} is gone from {c.step.datastore}",
                target=c.host.name,
                hint="Retry the step that copies the kernel.",
            )
        paths.append(volume.path)
    values = {name: await value(c, name) for name in answers.names(role.image.args)}
    ramdisk = paths[1] if len(paths) > 1 else ""
    return KernelStart(paths[0], ramdisk, answers.filled(role.image.args, "lines", values))


KINDS: dict[str, Kind] = {"boot-files": BootFiles()}
