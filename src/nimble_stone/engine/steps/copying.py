"""The package's disks on a datastore, and the leftovers of runs of the first version."""

from __future__ import annotations

import asyncio

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.units import count_text
from nimble_stone.engine.steps.context import Context, Found, Kind, remove_volume
from nimble_stone.packages import copies, spool, stored, transfer
from nimble_stone.store import library, records
from nimble_stone.store.library import Copy


class Carry:
    """The package's disks onto a datastore, converted on the way: once per datastore, whoever needs
    them.
    """

    async def observe(self, c: Context) -> Found | None:
        """Every copy is there with the right digest."""
        await c.host.storage.refresh(c.step.datastore)
        place = await _place(c)
        known = {
            copy.name: copy
            for copy in await c.ports.store.read(library.copies, c.contents.sha256)
            if copy.place == place
        }
        total = 0
        for disk in stored.disk_ids(c.contents):
            name = copies.name_of(c.contents.sha256, disk)
            volume = await c.host.storage.volume(c.step.datastore, name)
            if volume is None:
                return None
            if name in c.answer:
                expected = c.answer[name]
            elif name in known:
                expected = known[name].digest
            elif (
                whole := await asyncio.to_thread(_whole, c, disk, volume.physical_bytes)
            ) is not None:
                # it arrived whole perhaps, but we ended before it was noted
                expected = whole
            else:
                return None  # an attempt that was cut
            if await c.host.storage.digest(volume.path) != expected:
                if c.acted:
                    raise RemoteFailed(
                        f"what arrived on {c.host.name} is not what was sent ({volume.name})",
                        target=c.host.name,
                        hint="Retry; if it happens again, look at the datastore's disk.",
                    )
                return None
            now = c.ports.clock()
            await c.ports.store.write(
                library.put_copy,
                Copy(
                    place,
                    name,
                    expected,
                    volume.physical_bytes,
                    c.contents.sha256,
                    c.host.name,
                    c.step.datastore,
                    c.run.id,
                    now,
                    now,
                ),
            )
            total += volume.physical_bytes
        return {
            "bytes": total,
            "sent": "way" in c.answer,
            "way": c.answer.get("way", "already present"),
        }

    async def act(self, c: Context) -> None:
        """Send what is not there; leftovers of an attempt that was cut are removed first."""
        place = await _place(c)
        for disk in stored.disk_ids(c.contents):
            name = copies.name_of(c.contents.sha256, disk)
            async with c.ports.lock(f"copy {place} {name}"):
                there = [
                    copy
                    for copy in await c.ports.store.read(library.copies, c.contents.sha256)
                    if (copy.place, copy.name) == (place, name)
                ]
                volume = await c.host.storage.volume(c.step.datastore, name)
                if (
                    there
                    and volume is not None
                    and await c.host.storage.digest(volume.path) == there[0].digest
                ):
                    # another run brought it while we waited
                    c.answer[name] = there[0].digest
                    continue
                await c.ports.store.write(library.drop_copy, place, name)
                await remove_volume(c, name)
                digest, trial = await transfer.carry(
                    c.ports,
                    c.host,
                    c.contents,
                    disk,
                    c.step.datastore,
                    name,
                    lambda sent, total, rate: c.tell(sent=sent, total=total, rate=rate),
                    many=sum(step.kind == "carry" for step in c.run.steps.values()) > 1,
                )
                c.answer[name], c.answer["way"] = digest, trial.why

    async def undo(self, c: Context) -> str:
        """Remove the copies that this run brought, unless others use them."""
        gone, place = 0, await _place(c)
        for copy in await c.ports.store.read(library.copies, c.contents.sha256):
            if copy.place != place or copy.made_by != c.run.id:
                continue
            async with c.ports.lock(f"copy {place} {copy.name}"):
                if await copies.users(c.ports, copy, besides=c.run.id):
                    continue
                gone += await remove_volume(c, copy.name)
                await c.ports.store.write(library.drop_copy, place, copy.name)
        # an attempt that was cut before it was noted
        for disk in stored.disk_ids(c.contents):
            name = copies.name_of(c.contents.sha256, disk)
            async with c.ports.lock(f"copy {place} {name}"):
                if not [
                    copy
                    for copy in await c.ports.store.read(library.copies, c.contents.sha256)
                    if (copy.place, copy.name) == (place, name)
                ]:
                    gone += await remove_volume(c, name)
        if gone:
            return f"{count_text(gone, 'copy', 'copies')} removed from {c.step.detail['place']}"
        return f"copies on {c.step.detail['place']} stay: others use them"


def _whole(c: Context, disk: str, size: int) -> str | None:
    """The digest a volume of that size would have if all of the disk had arrived, None when the
    size says it has not.
    """
    spooled = spool.find(c.ports.packages, c.contents, disk)
    if spooled is not None and spooled.size == size:
        return spooled.sha256
    with stored.open_disk(c.ports.packages, c.contents, disk) as conversion:
        if conversion.file_bytes != size:
            return None
    return transfer.digest_of(c.ports, c.contents, disk)


async def _place(c: Context) -> str:
    return copies.place_of(
        await c.ports.store.read(records.load_estate), c.step.host, c.step.datastore
    )


class Tidy:
    """Only in runs of the first version: their copies bore the run's own name and were removed
    after cloning.
    """

    async def observe(self, c: Context) -> Found | None:
        """None of them is there."""
        for number in range(len(c.descriptor.disk_order)):
            if await c.host.storage.volume(c.step.datastore, c.volume(f"base{number}")) is not None:
                return None
        return {}

    async def act(self, c: Context) -> None:
        """Remove them."""
        await self.undo(c)

    async def undo(self, c: Context) -> str:
        """Remove them."""
        await c.host.storage.refresh(c.step.datastore)
        gone = [
            await remove_volume(c, c.volume(f"base{number}"))
            for number in range(len(c.descriptor.disk_order))
        ]
        return (
            f"{sum(gone)} cached images removed from {c.step.detail['place']}" if any(gone) else ""
        )


KINDS: dict[str, Kind] = {"carry": Carry(), "tidy": Tidy()}
