"""What happens inside a stand-in machine that is on: it fetches the medium it boots from, reads the
job on it, does it in the lab's time, and reports as the real system does.
"""

from __future__ import annotations

import asyncio
import base64
import hashlib
import io
import ssl
import tempfile
from collections.abc import Callable
from typing import Any, BinaryIO, cast
from urllib.parse import urlsplit

import aiohttp
import pycdlib
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from nimble_stone.core.inspection import job as jobs
from nimble_stone.core.inspection.job import ImageName, Job
from nimble_stone.lab.controllers import inside, installer
from nimble_stone.lab.controllers.installed import Installed, label_in
from nimble_stone.lab.controllers.machine import LabMachine
from nimble_stone.lab.controllers.patience import PAUSE_S, TRIES, kept_at

MOST = 4 << 30
BLOCK = 64 << 10
BOOTS_S, LOOKS_S = 14.0, 8.0
"""Power-on self test and boot, and looking around, in seconds of the lab."""
MOST_WRONG = 3


class StandIn:
    """The inside of one machine."""

    def __init__(self, speed: Callable[[], float], installed: Installed) -> None:
        self._speed, self._installed = speed, installed
        self._running: asyncio.Task[None] | None = None

    async def start(self, machine: LabMachine, source: str, over: Callable[[], None]) -> None:
        """Power on: boot from the source, in the background."""
        await self.stop(machine)
        self._running = asyncio.create_task(self._run(machine, source, over))

    async def stop(self, machine: LabMachine) -> None:
        """Power off."""
        self._installed.halt()
        task, self._running = self._running, None
        if task is not None and task is not asyncio.current_task():
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

    async def _run(self, machine: LabMachine, source: str, over: Callable[[], None]) -> None:
        knobs = machine.knobs
        await self._takes(BOOTS_S)
        from_disk = (
            source == "Hdd"
            or knobs.boots_from_disk
            or (
                # what is bootable comes first, unless the medium was asked for
                source != "Cd" and bool(machine.written)
            )
        )
        if from_disk:
            self._installed.boot()
        if from_disk or not machine.image:
            return
        try:
            with tempfile.TemporaryFile() as file:
                medium = cast(BinaryIO, file)
                await kept_at(lambda: self._fetch_whole(machine.image, medium))
                if await asyncio.to_thread(installer.product_on, medium):
                    await self._install(machine, medium)
                    if knobs.installer in ("silent", "fails and ends"):
                        over()
                    return
                job = await asyncio.to_thread(_read_job, medium)
            if job.kind not in ("inspect", "wipe", "write") or knobs.hangs:
                return
            await self._work(machine, job)
        except (
            OSError,
            ValueError,
            aiohttp.ClientError,
            pycdlib.pycdlibexception.PyCdlibException,
        ) as error:
            machine.log.append(f"it stops: {error}")
            return
        over()

    async def _work(self, machine: LabMachine, job: Job) -> None:
        """What the job on the inspection medium says."""
        written = job.disks[0].serial if job.image else ""
        # as the real system: what an attempt before wrote is not written again
        before = machine.written.get(written, "")
        refused: list[str] = []
        if job.image is None or before != job.image.sha256:
            refused = inside.wipe(machine, job)
        if job.image and not refused and before != job.image.sha256:
            refused = await self._write(machine, job, job.image)
        await self._takes(LOOKS_S)
        text = inside.report(machine, refused, written)
        for _ in range(2 if machine.knobs.reports_twice else 1):
            answer = await kept_at(lambda: _post(job, text))
            machine.log.append(f"report answered with {answer}")

    async def _write(self, machine: LabMachine, job: Job, image: ImageName) -> list[str]:
        """Fetch the image whole and digest it; a stand-in's drive keeps no more of it. Why it was
        not written, in words.
        """
        why, away, wrong = "", 0, 0
        while away < TRIES and wrong < MOST_WRONG:
            try:
                found = await self._fetch(machine, job, image)
            except (OSError, aiohttp.ClientError, TimeoutError) as error:
                why = f"it could not be fetched: {error}"
                away += 1
                await asyncio.sleep(PAUSE_S)
                continue
            if found == image.sha256:
                machine.written = {job.disks[0].serial: found}
                machine.node = {}
                return []
            why = "what was read back is not the image"
            wrong += 1
        return [f"a disk ({job.disks[0].serial}): {why}"]

    async def _fetch(self, machine: LabMachine, job: Job, image: ImageName) -> str:
        """The digest of what is at the image's address, fetched at the machine's pace."""
        checked = await _pinned(job, image.address)
        digest, mapped, got, head = hashlib.sha256(), 0, 0, bytearray()
        at = -1  # where in the data the disk's first block is
        async with aiohttp.ClientSession(raise_for_status=True) as session:
            async with session.get(f"{image.address}/map", ssl=checked) as answer:
                for line in (await answer.text()).splitlines():
                    if line.split()[0] == "0":
                        at = mapped
                    mapped += int(line.split()[1]) * BLOCK
            async with session.get(f"{image.address}/data", ssl=checked) as answer:
                async for piece in answer.content.iter_chunked(1 << 18):
                    digest.update(piece)
                    if at >= 0 and got + len(piece) > at and len(head) < BLOCK:
                        head += piece[max(0, at - got) :]
                    got += len(piece)
                    machine.fetched += len(piece)
                    if machine.knobs.slow_link:
                        await asyncio.sleep(len(piece) / machine.knobs.slow_link)
        if mapped != got:
            raise OSError(f"the map says {mapped} bytes, {got} came")
        machine.label = label_in(bytes(head[:BLOCK]))
        return digest.hexdigest()

    async def _takes(self, seconds: float) -> None:
        await asyncio.sleep(seconds / self._speed())

    async def _install(self, machine: LabMachine, medium: BinaryIO) -> None:
        """What an installer does; then it waits to be switched off."""
        if machine.knobs.hangs:
            return
        if not machine.second:
            await installer.install(machine, medium, None, self._speed)
            return
        with tempfile.TemporaryFile() as file:
            second = cast(BinaryIO, file)
            await kept_at(lambda: self._fetch_whole(machine.second, second))
            await installer.install(machine, medium, second, self._speed)

    async def _fetch_whole(self, url: str, file: BinaryIO) -> None:
        """A medium, fetched whole, as a virtual CD reads it."""
        file.seek(0)
        file.truncate()
        async with (
            aiohttp.ClientSession() as session,
            # controllers as a rule do not check certificates of media
            session.get(url, ssl=False) as answer,
        ):
            if answer.status != 200:
                raise OSError(f"the medium is answered with status {answer.status}")
            async for piece in answer.content.iter_chunked(1 << 20):
                await asyncio.to_thread(file.write, piece)
                if file.tell() > MOST:
                    raise OSError("the medium has no end")


def _read_job(file: BinaryIO) -> Job:
    iso = pycdlib.PyCdlib()
    iso.open_fp(file)
    try:
        out = io.BytesIO()
        path: dict[str, str] = {}
        if iso.has_joliet():
            path = {"joliet_path": f"/{jobs.FILE}"}
        elif iso.has_rock_ridge():
            path = {"rr_path": f"/{jobs.FILE}"}
        iso.get_file_from_iso_fp(out, **path)
        return jobs.read(out.getvalue())
    finally:
        iso.close()


async def _post(job: Job, text: str) -> int:
    """Report; the status that answers."""
    checked = await _pinned(job, job.report)
    async with (
        aiohttp.ClientSession() as session,
        session.post(job.report, data=text.encode(), ssl=checked) as answer,
    ):
        return answer.status


async def _pinned(job: Job, address: str) -> Any:
    """What aiohttp checks a server by, after the key that answers there was seen to be the job's
    pinned one. Raises OSError for another.
    """
    place = urlsplit(address)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    _, writer = await asyncio.open_connection(place.hostname, place.port or 443, ssl=context)
    der = writer.get_extra_info("ssl_object").getpeercert(binary_form=True)
    writer.close()
    key = x509.load_der_x509_certificate(der).public_key()
    shown = hashlib.sha256(
        key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    ).digest()
    if job.pin != f"sha256//{base64.b64encode(shown).decode()}":
        raise OSError("another key answers than the pinned one")
    return aiohttp.Fingerprint(hashlib.sha256(der).digest())
