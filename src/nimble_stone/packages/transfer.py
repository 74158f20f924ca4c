"""Getting a package's disk into a volume of a datastore: pushed over SSH, or pulled by the host;
the faster one, found by trial.
"""

from __future__ import annotations

import asyncio
import hashlib
import os
import secrets
from collections.abc import AsyncIterator, Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from nimble_stone.core.errors import RemoteError, RemoteFailed, StoneError, Unreachable
from nimble_stone.core.package.contents import Contents
from nimble_stone.core.units import size_text
from nimble_stone.hosts.api import HostDriver
from nimble_stone.packages import spool, stored
from nimble_stone.ports.ports import Ports

PIECE = 1 << 20
LIMIT_S = 6 * 3600
TRIAL_BYTES = 4 << 20
PULL_TRIES = 4
Way = Literal["push", "pull"]
Tell = Callable[[int, int, float], None]


@dataclass(frozen=True)
class Trial:
    """What was measured to a host, in bytes per second; 0 where that way does not work. `why` says
    it in words.
    """

    way: Way
    push: float
    pull: float
    why: str


async def choose(ports: Ports, host: HostDriver) -> Trial:
    """Try both ways with a few MiB, once per host and server life. A way that fails is not an
    error: the other is taken.
    """
    if host.name in ports.trials:
        found: Trial = ports.trials[host.name]
        return found
    office = ports.tickets
    push = await host.probes.push_rate(_random(TRIAL_BYTES), TRIAL_BYTES)
    pull, reason = 0.0, "no address is set under which hosts reach this server"
    if office is not None and office.base:
        try:
            pull = await host.probes.pull_rate(f"{office.base}/pull/trial")
        except StoneError as error:
            reason = str(error)
    if pull > push:
        trial = Trial(
            "pull", push, pull, f"pulled by the host: {_rate(pull)} against {_rate(push)} pushed"
        )
    else:
        trial = Trial(
            "push",
            push,
            pull,
            f"pushed over SSH at {_rate(push)}: "
            + (f"pulling reached {_rate(pull)}" if pull else reason[:200]),
        )
    ports.trials[host.name] = trial
    return trial


def _rate(rate: float) -> str:
    return f"{size_text(int(rate))}/s"


async def _random(size: int) -> AsyncIterator[bytes]:
    block = secrets.token_bytes(PIECE)
    for _ in range(size // PIECE):
        yield block


async def carry(
    ports: Ports,
    host: HostDriver,
    contents: Contents,
    disk: str,
    datastore: str,
    volume: str,
    tell: Tell,
    *,
    many: bool = False,
) -> tuple[str, Trial]:
    """Create the volume and fill it: (SHA-256 of what was sent, the way that was taken). Raises
    RemoteError, FormatError.

    Read, inflated, converted and sent in one pass; `many` says that other datastores need the same
    disk, so that it is converted once for all.
    """
    trial = await choose(ports, host)
    spooled = None
    if many or trial.way == "pull":
        async with ports.lock(f"spool {contents.sha256} {disk}"):
            spooled = await asyncio.to_thread(spool.make, ports.packages, contents, disk)
    with stored.open_disk(ports.packages, contents, disk) as conversion:
        total = spooled.size if spooled else conversion.file_bytes
        await host.storage.create_disk(datastore, volume, conversion.capacity_bytes)
        began = ports.clock()

        def sent(count: int) -> None:
            tell(count, total, count / max(0.05, ports.clock() - began))

        if trial.way == "pull":
            try:
                return (
                    await _pull(
                        ports, host, contents, disk, spooled, datastore, volume, total, sent
                    ),
                    trial,
                )
            except RemoteError as error:
                if isinstance(error, Unreachable):
                    raise
                # The host could fetch a moment ago and cannot now: what SSH reaches is still
                # reached by SSH.
                trial = Trial(
                    "push", trial.push, 0.0, f"pushed over SSH, because pulling failed: {error}"
                )
                ports.trials[host.name] = trial
        if spooled:
            await host.storage.upload(
                datastore, volume, file_pieces(spooled.path), limit_s=LIMIT_S, sent=sent
            )
            return spooled.sha256, trial
        digest = hashlib.sha256()
        await host.storage.upload(
            datastore,
            volume,
            pieces(conversion.stream(), digest.update),
            limit_s=LIMIT_S,
            sent=sent,
        )
        return digest.hexdigest(), trial


async def _pull(
    ports: Ports,
    host: HostDriver,
    contents: Contents,
    disk: str,
    spooled: spool.Spooled | None,
    datastore: str,
    volume: str,
    total: int,
    sent: Callable[[int], None],
) -> str:
    """Let the host fetch; after a cut it goes on where it was."""
    office = ports.tickets
    if office is None:
        raise RemoteFailed("this server offers nothing to fetch", target=host.name)
    ticket = office.open(contents, disk, sent, ports.pull_rate, spooled.path if spooled else None)
    try:
        found = await host.storage.volume(datastore, volume)
        if found is None:
            raise RemoteFailed(f"volume {volume} is not there", target=host.name)
        for attempt in range(PULL_TRIES):
            try:
                await host.storage.pull(
                    ticket.address,
                    found.path,
                    resume=attempt > 0,
                    rate=ports.pull_rate,
                    limit_s=LIMIT_S,
                )
                break
            except RemoteFailed:
                if attempt == PULL_TRIES - 1:
                    raise
                await ports.pause(0.5 * 2**attempt * max(0.2, ports.pace))
        await host.storage.refresh(datastore)
        size = await host.storage.file_size(found.path)
        if size != total:
            raise RemoteFailed(
                f"{size} bytes arrived on {host.name} where {total} were sent",
                target=host.name,
                hint="Retry.",
            )
        return (
            spooled.sha256
            if spooled
            else office.digest(ticket.id)
            or await asyncio.to_thread(digest_of, ports, contents, disk)
        )
    finally:
        office.close(ticket.id)


def digest_of(ports: Ports, contents: Contents, disk: str) -> str:
    """SHA-256 of the disk as it travels. Reads and converts all of it: for a thread."""
    digest = hashlib.sha256()
    with stored.open_disk(ports.packages, contents, disk) as conversion:
        for piece in conversion.stream():
            digest.update(piece)
    return digest.hexdigest()


async def file_pieces(path: Path, start: int = 0) -> AsyncIterator[bytes]:
    """A file in pieces of 1 MiB, the next one read while the last is sent."""
    descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    following = asyncio.create_task(asyncio.to_thread(os.pread, descriptor, PIECE, start))
    try:
        while data := await following:
            start += len(data)
            following = asyncio.create_task(asyncio.to_thread(os.pread, descriptor, PIECE, start))
            yield data
    finally:
        if not following.done():
            await asyncio.wait([following])
        os.close(descriptor)


async def pieces(source: Iterator[bytes], seen: Callable[[bytes], None]) -> AsyncIterator[bytes]:
    """The source in pieces of about 1 MiB, produced in a thread so that inflating never blocks the
    server.
    """

    def collect() -> bytes:
        parts, size = [], 0
        for part in source:
            parts.append(part)
            size += len(part)
            if size >= PIECE:
                break
        return parts[0] if len(parts) == 1 else b"".join(parts)

    following = asyncio.create_task(asyncio.to_thread(collect))
    noting: asyncio.Task[None] | None = None
    try:
        while data := await following:
            following = asyncio.create_task(asyncio.to_thread(collect))
            if noting is not None:
                await noting
            # hashed beside the inflating of the next and the sending of this
            noting = asyncio.create_task(asyncio.to_thread(seen, data))
            yield data
        if noting is not None:
            await noting
    finally:
        waiting = [task for task in (following, noting) if task is not None and not task.done()]
        if waiting:
            await asyncio.wait(waiting)
