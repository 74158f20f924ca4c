"""Datastores of a KVM host and the disks on them."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator, Callable, Sequence
from dataclasses import replace

from nimble_stone.core.errors import Conflict, RemoteFailed
from nimble_stone.hosts.api import Volume, VolumeName
from nimble_stone.hosts.kvm import commands, xml_in, xml_out
from nimble_stone.hosts.kvm.probes import fetch_words
from nimble_stone.hosts.kvm.session import Session

OF_NOTHING = "e3b0c44298fc1c149afbf4c8996fb924"
"""How the SHA-256 of no bytes begins."""


class KvmStorage:
    """Keeps disks on a host's datastores."""

    disk_format = xml_out.DISK_FORMAT

    def __init__(self, session: Session) -> None:
        self._session = session

    async def volume(self, datastore: str, name: str) -> Volume | None:
        """The volume, or None."""
        text = await self._session.maybe("vol-dumpxml", "--pool", datastore, name)
        return xml_in.volume(text) if text is not None else None

    async def volumes(self, wanted: Sequence[VolumeName]) -> list[Volume | None]:
        """Several of them, in one conversation."""
        if not wanted:
            return []
        found = await self._session.several(
            *(("vol-dumpxml", "--pool", one.datastore, one.volume) for one in wanted)
        )
        return [xml_in.volume(text) if text is not None else None for text in found]

    async def refresh(self, datastore: str) -> None:
        """Make the host see what others put into a shared datastore."""
        await self._session.virsh("pool-refresh", datastore)

    async def create_disk(self, datastore: str, name: str, capacity_bytes: int) -> None:
        """An empty thin disk."""
        await self._create(datastore, xml_out.volume(name, self.disk_format, capacity_bytes))

    async def create_image(self, datastore: str, name: str, size_bytes: int) -> None:
        """Room for an image that is kept as it is."""
        await self._create(datastore, xml_out.volume(name, "raw", size_bytes))

    async def _create(self, datastore: str, document: str) -> None:
        await self._session.virsh("vol-create", datastore, "/dev/stdin", data=document)

    async def upload(
        self,
        datastore: str,
        name: str,
        pieces: AsyncIterator[bytes],
        *,
        limit_s: int,
        sent: Callable[[int], None],
    ) -> None:
        """Stream bytes into a volume. Raises RemoteFailed in the host's words, Unreachable when it
        is lost in mid-transfer.
        """
        words = ("vol-upload", "--pool", datastore, name, "/dev/stdin")
        command = commands.virsh(*words, seconds=limit_s)
        answer = await self._session.stream(command, pieces, limit_s=limit_s + 5, sent=sent)
        if answer.status != 0:
            raise self._session.failure(" ".join(words), answer)

    def download(self, datastore: str, name: str, *, limit_s: int) -> AsyncIterator[bytes]:
        """A volume's bytes as they lie there. Raises RemoteFailed, Unreachable."""
        words = ("vol-download", "--pool", datastore, name, "/dev/stdout")
        command = commands.virsh(*words, seconds=limit_s)
        return self._session.fetch(command, limit_s=limit_s + 5)

    async def pull(self, url: str, path: str, *, resume: bool, rate: float, limit_s: int) -> None:
        """Let the host fetch a URL into a file, going on where the file ends when `resume`. Raises
        RemoteFailed in curl's words.
        """
        config = (
            f'url = "{url}"\noutput = "{path}"\nfail\nsilent\nshow-error\nconnect-timeout ='
            " 10\nspeed-limit = 1024\nspeed-time = 30\n"
            + ('continue-at = "-"\n' if resume else "")
            + (f"limit-rate = {int(rate)}\n" if rate else "")
        )
        # the ticket is good for one transfer, but it is a ticket
        shown = re.sub(r"(/pull/[0-9a-f]+)\.[^\"]*", r"\1.…", config)
        answer = await self._session.run(
            commands.fetch(limit_s), config.encode(), limit_s=limit_s + 5, shown=shown
        )
        if answer.status != 0:
            raise RemoteFailed(
                f"{self._session.name} could not fetch the disk: {fetch_words(answer)}",
                target=self._session.name,
                operation="fetch",
                hint="See whether the host reaches this server; retry.",
            )

    async def file_size(self, path: str) -> int:
        """Bytes of a file on the host, -1 when it is not there."""
        answer = await self._session.run(commands.file_size(path))
        return int(answer.text) if answer.status == 0 and answer.text.strip().isdigit() else -1

    async def digest(self, path: str) -> str:
        """SHA-256 of a file on the host; where the account may not read it, as the hypervisor reads
        it.
        """
        answer = await self._session.run(commands.digest(path), limit_s=3605)
        if answer.status != 0 and "Permission denied" in answer.err:
            answer = await self._session.run(commands.digest_by_volume(path), limit_s=3605)
            if answer.text.startswith(OF_NOTHING):
                answer = replace(answer, status=1, err="the hypervisor read nothing of it")
        if answer.status != 0:
            raise self._session.failure(f"sha256sum {path}", answer)
        return answer.text.split(" ")[0].lstrip("\\")

    async def overlay(self, datastore: str, base_path: str, name: str, capacity_bytes: int) -> None:
        """A volume that holds only what differs from another one of the same datastore."""
        await self._create(
            datastore,
            xml_out.volume(name, self.disk_format, capacity_bytes, backing_path=base_path),
        )

    async def clone(
        self, datastore: str, base: str, name: str, *, full: bool, capacity_bytes: int
    ) -> None:
        """A copy of a volume, thin, or with all its space reserved."""
        if full:
            await self._session.virsh(
                "vol-create-from",
                datastore,
                "/dev/stdin",
                base,
                "--inputpool",
                datastore,
                "--prealloc-metadata",
                seconds=3600,
                data=xml_out.volume(name, self.disk_format, capacity_bytes, capacity_bytes),
            )
        else:
            await self._session.virsh("vol-clone", "--pool", datastore, base, name, seconds=3600)

    async def grow(self, datastore: str, name: str, capacity_bytes: int) -> None:
        """Make a volume larger that no running VM has."""
        size = f"{capacity_bytes}b"
        await self._session.virsh("vol-resize", "--pool", datastore, name, size, seconds=120)

    async def delete(self, datastore: str, name: str) -> None:
        """Remove a volume of ours; the name carries the mark, others are refused."""
        if not name.startswith("ns-"):
            raise Conflict(
                f"volume “{name}” was not created by Nimble Stone and is left unchanged",
                code="not-ours",
            )
        await self._session.virsh("vol-delete", "--pool", datastore, name)

    async def delete_adopted(self, datastore: str, name: str) -> None:
        """Remove a volume of others; whoever calls knows that it may."""
        await self._session.virsh("vol-delete", "--pool", datastore, name)
