"""Media for bare machines: one image that is good for all of them, with a job of its own for each,
and the reports that come back.
"""

from __future__ import annotations

import asyncio
import base64
import json
import logging
import mmap
import secrets
from collections import Counter
from collections.abc import AsyncIterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

from nimble_stone.core.errors import Busy, Conflict, FormatError, NotFound, StoneError
from nimble_stone.core.inspection import job as jobs
from nimble_stone.core.inspection import report
from nimble_stone.core.inspection.job import ImageName, Job
from nimble_stone.core.plan.machines import known_ports
from nimble_stone.keyring import certificates
from nimble_stone.keyring.certificates import Pair
from nimble_stone.packages import extents, installers, stored
from nimble_stone.packages.extents import Prepared
from nimble_stone.ports import Ports
from nimble_stone.ports.media import network_entry
from nimble_stone.reach.listener import Fetched, ReportListener
from nimble_stone.reach.netboot import NetBoot
from nimble_stone.server import netboot
from nimble_stone.server.auth import Tries
from nimble_stone.store import media, records
from nimble_stone.store.media import Task

log = logging.getLogger("nimble_stone.server")
KEY_ENTRY = "installation/machine-reports"
PORT_ENTRY = "reports-port"
FILE_NAME, SECOND_NAME = "inspection.iso", "answers.iso"
NAMES = {"seed": "config.iso", "install": "installer.iso"}
"""What the medium of a kind of task is called; others are the inspection image."""
NO_NETWORK = "this server does not answer there; start it with --netboot-interface"
LASTS_S = 4 * 3600.0
MOST_AT_ONCE = 16
"""Fetches by one address at a time: a controller reads parts of a medium side by side."""
PIECE = 1 << 20


@dataclass(frozen=True)
class Image:
    """The inspection image: its size, and where in it the job lies. Bytes."""

    path: Path
    size: int
    changed_ns: int
    job_at: int


@dataclass
class Fetching:
    """An image on its way to a machine. Bytes; `began` by the monotonic clock, in seconds."""

    total: int
    began: float
    sent: int = 0


@dataclass(frozen=True)
class Medium:
    """An image for one machine, or a part of it that begins at `offset`. `patches`: place in the
    file → what is there for this machine.
    """

    path: Path
    size: int
    patches: Mapping[int, bytes]
    offset: int = 0

    async def pieces(self, start: int, end: int) -> AsyncIterator[bytes]:
        """The bytes from `start` up to `end`, with the patches in their places."""
        file = await asyncio.to_thread(self.path.open, "rb")
        start, end = start + self.offset, end + self.offset
        try:
            await asyncio.to_thread(file.seek, start)
            while start < end:
                piece = await asyncio.to_thread(file.read, min(PIECE, end - start))
                if not piece:
                    return
                for at, data in self.patches.items():
                    piece = installers.patched(piece, start, data, at)
                yield piece
                start += len(piece)
        finally:
            file.close()


@dataclass(frozen=True)
class Small:
    """A medium that is made for one machine."""

    data: bytes

    @property
    def size(self) -> int:
        """Bytes."""
        return len(self.data)

    async def pieces(self, start: int, end: int) -> AsyncIterator[bytes]:
        """The bytes from `start` up to `end`."""
        yield self.data[start:end]


class Media:
    """The office that offers media. `base`: the address under which machines reach this server, ''
    when they cannot; `image`: where the inspection image is; `network`: answers machines that boot
    from the network, where this server does.
    """

    def __init__(
        self, ports: Ports, base: str, image: Path, network: NetBoot | None = None
    ) -> None:
        self._ports, self._base, self._path = ports, base.rstrip("/"), image
        self._network = network
        self._image: Image | None = None
        self._pin, self._reports = "", ""
        self._listener: ReportListener | None = None
        self._fetching: dict[tuple[str, str], Fetching] = {}
        self._wrong = Tries(ports.monotonic)
        self._at_once: Counter[str] = Counter()

    async def open(self, address: str, port: int) -> None:
        """Listen for reports on this address, where machines reach this server at all. With port 0
        it is the one of before if that is free: machines under way report to it.
        """
        host = urlsplit(self._base).hostname
        if not host:
            return
        if self._network is not None:
            # iPXE fills in the address of the interface that it boots from
            await self._network.open(f"{self._base}/netboot/${{net0/mac:hexhyp}}")
            await self.offers_changed()
        pair = await self._pair(host)
        self._pin = certificates.pin_of(pair)
        self._listener = ReportListener(
            pair.key + pair.certificate, self._received, report.MOST_BYTES, self._writable
        )
        found = await self._listen(address, port)
        if not found:
            return
        self._reports = f"https://{host}:{found}"

    async def _pair(self, host: str) -> Pair:
        """The key that machines are given to know this server by, made once; of its certificate
        only the key is looked at.
        """
        try:
            return certificates.unpacked(await self._ports.open_secret(KEY_ENTRY))
        except NotFound:
            now = self._ports.clock()
            authority = certificates.make_authority(now, "Nimble Stone machine reports")
            pair = certificates.issue(authority, [host], now, certificates.AUTHORITY_DAYS)
            await self._ports.keep_secret(KEY_ENTRY, pair.packed(), "certificate")
            return pair

    async def _listen(self, address: str, port: int) -> int:
        """The port that is listened on, 0 when none can be."""
        assert self._listener is not None
        before = await self._ports.store.read(records.get_meta, PORT_ENTRY)
        wanted = [port] if port else [int(before or 0), 0]
        for one in wanted:
            try:
                found = await self._listener.open(address, one)
            except OSError as error:
                log.warning("port %s cannot be listened on for reports: %s", one, error)
                continue
            await self._ports.store.write(records.put_meta, PORT_ENTRY, str(found))
            return found
        return 0

    async def close(self) -> None:
        """Listen no more."""
        if self._network is not None:
            await self._network.close()
        if self._listener is not None:
            await self._listener.close()

    def trouble(self) -> str:
        """Why no machine can be given a medium here, in words; '' when it can."""
        if trouble := self.unreachable():
            return trouble
        if not self._reports:
            return "this server does not listen for reports; see its log"
        if not self._path.exists():
            return (
                f"there is no inspection image at {self._path}; make one (`make inspection-image`)"
            )
        return ""

    def unreachable(self) -> str:
        """Why machines cannot fetch anything from here, in words; '' when they can."""
        if self._base:
            return ""
        return "machines cannot reach this server; start it with --reachable-at"

    def network_trouble(self) -> str:
        """Why machines cannot boot from the network here, in words; '' when they can."""
        return self._network.trouble if self._network else NO_NETWORK

    async def offer(self, run: str, machine: str, task: Task) -> str:
        """The one-time address of a medium for that machine. An earlier one ends. Raises Conflict
        for one by the network where this server does not answer there.
        """
        if task.net and (why := self.network_trouble()):
            raise Conflict(f"{machine} cannot boot from the network: {why}", code="no-netboot")
        token = secrets.token_hex(16)
        # whoever knows it may report in the machine's name: it does not belong into transcripts
        self._ports.hide(token)
        # what an earlier attempt fetched says nothing of this one
        self._fetching.pop((run, machine), None)
        until = self._ports.clock() + LASTS_S
        await self._ports.store.write(media.offer, token, run, machine, task, until)
        if task.net:
            await self._ports.keep_secret(network_entry(run, machine), token, "token")
            await self.offers_changed()
        name = NAMES.get(task.kind, FILE_NAME)
        return f"{self._base}/media/{token}/{name}"

    # --- by the network ---

    async def offers_changed(self) -> None:
        """Answer the ports of machines that something is on offer to, and no others."""
        if self._network is None:
            return
        answered: set[str] = set()
        facts = (await self._ports.store.read(records.load_estate)).machine_facts
        for one in await self._ports.store.read(media.on_net, self._ports.clock()):
            answered |= set(known_ports(facts[one.machine])) if one.machine in facts else set()
        await self._network.answer(answered)

    async def script(self, mac: str) -> str:
        """What iPXE does on the machine with this port: boots what is on offer, or nothing."""
        store = self._ports.store
        facts = (await store.read(records.load_estate)).machine_facts
        for one in await store.read(media.on_net, self._ports.clock()):
            if one.machine in facts and mac.lower() in known_ports(facts[one.machine]):
                return await self._script(one)
        return netboot.NOTHING

    async def _script(self, found: media.Medium) -> str:
        token = await self._ports.open_secret(network_entry(found.run, found.machine))
        folder = f"{self._base}/media/{token}"
        if found.task.kind != "install":
            args = f"{netboot.INSPECTION} job={folder}/job neighbours=31"
            return netboot.script(f"{folder}/boot/kernel", [f"{folder}/boot/initrd"], args)
        told = json.loads(await self._ports.open_secret(found.task.secret))
        kernel, *initrds = (f"{folder}/boot{path}" for path in found.task.boots)
        return netboot.script(kernel, initrds, told["args"])

    async def part(self, token: str, path: str, *, read: bool) -> Medium:
        """A kernel or ramdisk of what is on offer; `read`: it is read, not only asked about. Raises
        NotFound.
        """
        found = await self._offered(token)
        if not found.task.net:
            raise NotFound("this address is not on offer", code="medium-gone")
        if read:
            await self._ports.store.write(media.fetched, token, self._ports.clock())
        iso = self._path
        if found.task.kind == "install":
            if path not in found.task.boots:
                raise NotFound("this address is not on offer", code="medium-gone")
            row = await self._ports.store.read(records.get_package, found.task.package)
            contents = await asyncio.to_thread(stored.contents_of, row)
            iso = installers.iso_of(self._ports.packages, contents)
        inside = await asyncio.to_thread(netboot.part, iso, path)
        return Medium(iso, inside.size, {}, inside.start)

    async def text(self, token: str, name: str) -> bytes:
        """The job of a machine that booted from the network, or an answer file of its installer.
        Raises NotFound.
        """
        found = await self._offered(token)
        if found.task.net and found.task.kind == "install":
            files = json.loads(await self._ports.open_secret(found.task.secret))["files"]
            if name in files:
                return str(files[name]).encode()
        elif found.task.net and name == "job":
            return jobs.written(await self._job(found, token))
        raise NotFound("this address is not on offer", code="medium-gone")

    # --- fetching ---

    async def admit(self, token: str, client: str) -> None:
        """Let a request with this token in. Raises NotFound for a wrong one; Busy for a client that
        has tried ten wrong ones within a minute, and while too many fetches are under way.
        """
        try:
            await self._offered(token)
        except NotFound:
            self._wrong.begin(client)
            raise
        if self._at_once[token] >= MOST_AT_ONCE:
            raise Busy(
                f"This address is read {MOST_AT_ONCE} times at once; more are refused.",
                retry_after_s=1,
            )

    async def counted(self, token: str, pieces: AsyncIterator[bytes]) -> AsyncIterator[bytes]:
        """The pieces, counted as one fetch by this token while they are sent."""
        self._at_once[token] += 1
        try:
            async for piece in pieces:
                yield piece
        finally:
            self._at_once[token] -= 1
            if not self._at_once[token]:
                del self._at_once[token]

    async def opened(self, token: str, name: str, *, read: bool) -> Medium | Small:
        """The medium for a token, by its name; `read`: it is read, which tells that its machine
        boots, not only asked about, as controllers do. Raises NotFound for one that is not on
        offer, FormatError when the image cannot be used.
        """
        found = await self._offered(token)
        known = {NAMES.get(found.task.kind, FILE_NAME)} if found.task.kind != "boot" else set()
        if found.task.label:
            known.add(SECOND_NAME)
        if name not in known:
            raise NotFound("this address is not on offer", code="medium-gone")
        if read and name != SECOND_NAME:
            await self._ports.store.write(media.fetched, token, self._ports.clock())
        if found.task.kind == "seed":
            sealed = await self._ports.open_secret(found.task.secret)
            return Small(base64.b64decode(sealed))
        if found.task.kind == "install":
            return await self._installer(found.task, name)
        job = await self._job(found, token)
        inside = await asyncio.to_thread(self._look)
        return Medium(inside.path, inside.size, {inside.job_at: jobs.written(job)})

    async def _job(self, found: media.Medium, token: str) -> Job:
        """What the inspection system does on a machine."""
        address = f"{self._reports}/report/{token}"
        task, image = found.task, None
        if task.kind == "write":
            made = await self._prepared(task)
            image = ImageName(made.zero_bytes, made.sha256, f"{self._reports}/image/{token}")
        return Job(task.kind, found.machine, address, self._pin, task.disks, image)

    async def _offered(self, token: str) -> media.Medium:
        found = await self._ports.store.read(media.find, token[:64])
        if found is None or found.until < self._ports.clock():
            raise NotFound("this address is not on offer", code="medium-gone")
        return found

    async def _installer(self, task: Task, name: str) -> Medium | Small:
        """The installer with the node's answers in their room; or as it came, and the answers on a
        medium of their own.
        """
        files = json.loads(await self._ports.open_secret(task.secret))["files"]
        if name == SECOND_NAME:
            return Small(await asyncio.to_thread(installers.labelled, files, task.label))
        row = await self._ports.store.read(records.get_package, task.package)
        contents = await asyncio.to_thread(stored.contents_of, row)
        folder = self._ports.packages
        if task.label or task.net:
            path = installers.iso_of(folder, contents)
            return Medium(path, path.stat().st_size, {})
        made = await asyncio.to_thread(installers.find, folder, contents, task.paths)
        if made is None:
            raise NotFound("the installer is not there", hint="Retry the step Prepare installer.")
        patches = {made.rooms[path]: installers.in_room(text) for path, text in files.items()}
        return Medium(made.path, made.size, patches)

    def _look(self) -> Image:
        """The image as it is now; where its job lies is looked up once for each content."""
        try:
            state = self._path.stat()
        except OSError as error:
            raise NotFound(f"there is no inspection image at {self._path}") from error
        known = self._image
        if known and (known.size, known.changed_ns) == (state.st_size, state.st_mtime_ns):
            return known
        place = -1
        if state.st_size:
            with (
                self._path.open("rb") as file,
                mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data,
            ):
                place = data.find(jobs.EMPTY)
        if place < 0 or place % 2048:
            raise FormatError(
                f"{self._path} has no room for a job",
                code="inspection-image",
                hint="Make it again: `make inspection-image`.",
            )
        self._image = Image(self._path, state.st_size, state.st_mtime_ns, place)
        return self._image

    # --- images ---

    async def _prepared(self, task: Task) -> Prepared:
        """The image of a task, as a step before unpacked it. Raises NotFound."""
        row = await self._ports.store.read(records.get_package, task.package)
        contents = await asyncio.to_thread(stored.contents_of, row)
        made = await asyncio.to_thread(extents.find, self._ports.packages, contents)
        if made is None:
            raise NotFound("the image is not unpacked", hint="Retry the step Unpack image.")
        return made

    async def _writable(self, token: str) -> Fetched | None:
        """What the system on a medium writes to its drive, None when there is nothing for it."""
        found = await self._ports.store.read(media.find, token[:64])
        if found is None or found.until < self._ports.clock() or found.task.kind != "write":
            return None
        try:
            made = await self._prepared(found.task)
        except StoneError:
            log.exception("the image for %s is not there", found.machine)
            return None
        under_way = Fetching(made.size, self._ports.monotonic())

        def sent(count: int) -> None:
            under_way.sent += count
            self._fetching[found.run, found.machine] = under_way

        return Fetched(made.path, made.size, made.map, sent)

    def sent(self, run: str, machine: str) -> dict[str, float] | None:
        """How much of an image a machine has fetched."""
        found = self._fetching.get((run, machine))
        if found is None:
            return None
        seconds = max(0.1, self._ports.monotonic() - found.began)
        return {"sent": found.sent, "total": found.total, "rate": found.sent / seconds}

    # --- what installers tell ---

    async def told(self, token: str, what: str, words: str, serial: str) -> int:
        """An installer tells that it is done, that it failed, or how far it is. The status of the
        answer. Raises NotFound for an address that is not on offer.
        """
        found = await self._offered(token)
        if found.task.kind != "install":
            raise NotFound("this address is not on offer", code="medium-gone")
        if found.reported_at:
            return 409
        if what == "progress":
            self._ports.hub.tell(found.run, found.task.step, words=words)
            return 204
        store = self._ports.store
        facts = (await store.read(records.load_estate)).machine_facts.get(found.machine)
        known = facts.serial if facts else ""
        if serial and known and serial.casefold() != known.casefold():
            trouble = f"another machine reported, with serial number {serial}; this one has {known}"
            await store.write(media.refused, token, trouble)
            return 403
        if what == "failed":
            trouble = f"the installer failed: {words}" if words else "the installer failed"
            await store.write(media.refused, token, trouble)
            return 204
        await store.write(media.installed, token, self._ports.clock())
        return 204

    # --- reports ---

    async def _received(self, token: str, body: bytes) -> int:
        """A report: kept when it can be of the machine that the medium was for."""
        store = self._ports.store
        found = await store.read(media.find, token[:64])
        if found is None or found.until < self._ports.clock():
            return 404
        if found.reported_at:
            return 409
        try:
            inside = await asyncio.to_thread(report.parse, body, found.machine, self._ports.clock())
            facts = (await store.read(records.load_estate)).machine_facts.get(found.machine)
            if trouble := report.another(inside, facts.serial if facts else ""):
                await store.write(media.refused, token, trouble)
                return 403
            await store.write(media.reported, token, inside, await self._undone(found.task, inside))
            self._fetching.pop((found.run, found.machine), None)
        except FormatError as error:
            await store.write(media.refused, token, str(error))
            return 400
        except StoneError:
            log.exception("a report of %s could not be kept", found.machine)
            return 503
        return 204

    async def _undone(self, task: Task, inside: report.Inspection) -> str:
        """Why what was to be done is not, by the report, '' when it is."""
        serials = tuple(disk.serial for disk in task.disks)
        if task.kind != "write":
            return report.not_wiped(inside, serials)
        made = await self._prepared(task)
        return report.not_written(inside, serials[0], made.sha256)
