"""Bringing packages in: from an upload, a URL or a watched folder. Received into a part file,
examined, then moved into the store by digest.

Everything survives a restart: what was received is on disk, what is to be done is in the store. A
take-in that fails leaves its reason only.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import logging
import os
import re
import secrets
import shutil
import time
from collections.abc import AsyncIterator, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path, PurePosixPath
from typing import Any
from urllib.parse import unquote, urlsplit

from nimble_stone.core.disk.source import ConcatSource, Source
from nimble_stone.core.errors import (
    Conflict,
    FormatError,
    InputError,
    NotFound,
    RemoteError,
    RemoteFailed,
    StoneError,
    Unreachable,
)
from nimble_stone.core.installing import packages as installing
from nimble_stone.core.package import kinds, packed
from nimble_stone.core.package.contents import Contents, examine, hash_source
from nimble_stone.core.package.given import Given, pieces_of
from nimble_stone.core.package.names import inside
from nimble_stone.core.units import size_text
from nimble_stone.core.weburl import secrets_of, shown
from nimble_stone.packages import extents, installers, spool, stored
from nimble_stone.packages.files import FileSource, opened
from nimble_stone.packages.trust import trusted_certificates
from nimble_stone.ports.ports import Ports
from nimble_stone.store import entries, library, records
from nimble_stone.store.library import TakeIn, TakeInFile
from nimble_stone.store.records import PackageRow


class Refused(FormatError):
    """A package with blockers: `findings` is everything that was noticed, as JSON data."""

    def __init__(self, contents: Contents) -> None:
        worst = contents.blockers[0]
        named = worst.where.split(",")[0] in worst.message
        super().__init__(
            worst.message,
            code=worst.code,
            place="" if named else worst.where,
            clause=worst.clause,
            hint="Get the package again from its publisher. This copy was not saved.",
        )
        self.findings = [
            {
                "severity": f.severity,
                "code": f.code,
                "message": f.message,
                "where": f.where,
                "clause": f.clause,
            }
            for f in contents.findings
        ]


log = logging.getLogger("nimble_stone.intake")
MARGIN = 256 << 20
BATCH = 1 << 20
MAX_FILES = 2_000
MAX_ACTIVE = 32
IDLE_S = 7 * 86_400.0
URL_TRIES = 8
LOOK_S = 2.0
BLOCK = 64 << 10
_ZERO = bytes(BLOCK)


@dataclass
class Progress:
    """How far an attempt is. Bytes; `rate` in bytes per second over the last while."""

    done: int = 0
    total: int = 0
    rate: float = 0.0
    _at: float = 0.0
    _then: int = 0

    def set(self, done: int, total: int) -> None:
        """Note where it stands now."""
        now = time.monotonic()
        if not self._at or done < self._then:
            self._at, self._then = now, done
        elif now - self._at > 0.5:
            fresh = (done - self._then) / (now - self._at)
            self.rate = fresh if not self.rate else 0.6 * self.rate + 0.4 * fresh
            self._at, self._then = now, done
        self.done, self.total = done, total


def _address_entry(ident: str) -> str:
    """Keyring entry of the web address that a take-in is fetched from."""
    return f"take-in/{ident}"


class _Part:
    """A file that comes in: written in batches, its first bytes looked at as soon as they are
    there.
    """

    def __init__(self, intake: Intake, row: TakeIn, number: int, at: int, before: int) -> None:
        self._intake, self._row, self._number = intake, row, number
        self._at, self._before = at, before
        self._first = at == 0 and len(row.files) == 1
        self._total = sum(file.size or 0 for file in row.files)
        self._progress = intake.progress.setdefault(row.id, Progress())
        self._batch = bytearray()
        flags = os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC
        self._file = os.open(intake.part(row.id, number), flags, 0o600)

    async def add(self, piece: bytes, size: int | None) -> None:
        """Take a piece. Raises InputError when more comes than was announced, Conflict when the
        disk runs full, FormatError for a file that is nothing of ours.
        """
        self._batch += piece
        if size is not None and self._at + len(self._batch) > size:
            raise InputError(
                f"more bytes came than the {size} that were announced", code="take-in-size"
            )
        if len(self._batch) < BATCH:
            return
        await self._flush()
        if shutil.disk_usage(self._intake.ports.packages).free < MARGIN:
            raise Conflict(
                "the disk filled up during the import",
                code="disk-full",
                hint="Free space on the server's disk.",
            )

    async def _flush(self) -> None:
        if not self._batch:
            return
        data = bytes(self._batch)
        self._batch.clear()
        await asyncio.to_thread(_put, self._file, self._at, data)
        self._at += len(data)
        self._progress.set(self._before + self._at, self._total)
        if self._first and self._at >= kinds.HEAD:
            self._first = False
            await asyncio.to_thread(self._intake.glance, self._row, self._number)

    async def close(self) -> None:
        """Write what is left, to the disk itself."""
        try:
            await self._flush()
            await asyncio.to_thread(os.fsync, self._file)
        finally:
            os.close(self._file)


class Intake:
    """All take-ins of a server. `open` takes up what an earlier life left, `close` lets go."""

    def __init__(self, ports: Ports, inbox: Path | None = None) -> None:
        self.ports, self.inbox = ports, inbox
        self.progress: dict[str, Progress] = {}
        self._tasks: dict[str, asyncio.Task[None]] = {}
        self._locks: dict[str, asyncio.Lock] = {}
        self._watch: asyncio.Task[None] | None = None
        self._stopped: set[str] = set()
        self._verifying = asyncio.Semaphore(2)

    # --- life ---

    async def open(self) -> None:
        """Make the folders, go on with what was under way."""
        (self.ports.packages / "blobs").mkdir(exist_ok=True, mode=0o700)
        (self.ports.packages / "incoming").mkdir(exist_ok=True, mode=0o700)
        for left in (self.ports.packages / "spool").glob(f"*{spool.PART}"):
            left.unlink()
        known = set()
        for row in await self.ports.store.read(library.take_ins, active=True):
            known.add(row.id)
            if row.state == "verifying":
                self._begin(row.id, self._verify(row.id))
            elif row.source == "url":
                self._begin(row.id, self._fetch(row.id))
            elif row.source == "folder":  # the watcher finds it again
                await self._end(row, "stopped")
            elif self.ports.clock() - row.changed_at > IDLE_S:
                await self._fail(
                    row,
                    InputError(
                        "Upload abandoned: no data for 7 days.",
                        code="upload-idle",
                        hint="Send it again.",
                    ),
                )
        for left in (self.ports.packages / "incoming").iterdir():
            if left.name not in known:
                shutil.rmtree(left, ignore_errors=True)
        if self.inbox:
            self._watch = asyncio.create_task(self._look())

    async def close(self) -> None:
        """Stop working; what was received stays."""
        tasks = [*self._tasks.values(), *([self._watch] if self._watch else [])]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    def _begin(self, ident: str, work: Any) -> None:
        async def guarded() -> None:
            try:
                await work
            except asyncio.CancelledError:
                raise
            except StoneError as error:
                await self._fail(await self.ports.store.read(library.get_take_in, ident), error)
            except Exception:
                log.exception("take-in %s", ident)
                await self._fail(
                    await self.ports.store.read(library.get_take_in, ident),
                    StoneError(
                        "internal error during the import",
                        hint="See the server log.",
                    ),
                )
            finally:
                self._tasks.pop(ident, None)

        self._tasks[ident] = asyncio.create_task(guarded())

    def _folder(self, ident: str) -> Path:
        return self.ports.packages / "incoming" / ident

    def part(self, ident: str, number: int) -> Path:
        """The part file of the n-th file of a take-in."""
        return self._folder(ident) / f"{number}.part"

    # --- beginning ---

    async def begin(
        self, source: str, name: str, files: list[TakeInFile], *, origin: str = "", sha256: str = ""
    ) -> TakeIn:
        """A new take-in that waits for its bytes. Raises Conflict when the disk is too small,
        InputError for names that are none.
        """
        if not files or len(files) > MAX_FILES:
            raise InputError(
                f"a package has 1 to {MAX_FILES} files; these are {len(files)}",
                code="take-in-files",
            )
        for file in files:
            if inside(file.name) != file.name:
                raise InputError(
                    f"“{file.name[:80]}” is not a file name inside a package", code="take-in-name"
                )
            if file.size is not None and not 0 < file.size <= 1 << 50:
                raise InputError(
                    f"“{file.name}” is {file.size} bytes long; 1 byte to 1 PiB can be imported",
                    code="take-in-size",
                )
        if len({file.name for file in files}) != len(files):
            raise InputError("two files have the same name", code="take-in-name")
        if len(await self.ports.store.read(library.take_ins, active=True)) >= MAX_ACTIVE:
            raise Conflict(
                f"{MAX_ACTIVE} imports are already running",
                code="take-in-busy",
                hint="Wait for one of them, or stop one.",
            )
        await self._room(sum(file.size or 0 for file in files))
        now = self.ports.clock()
        row = TakeIn(
            secrets.token_hex(8),
            source,
            name[:200],
            origin[:2000],
            "receiving",
            tuple(files),
            sha256.lower(),
            "",
            {},
            now,
            now,
        )
        self._folder(row.id).mkdir(mode=0o700)
        await self.ports.store.write(library.put_take_in, row)
        return row

    async def _room(self, wanted: int) -> None:
        """Free space is asked before: for these bytes and for what others under way still need."""
        coming = 0
        for row in await self.ports.store.read(library.take_ins, active=True):
            coming += sum(
                max(0, (file.size or 0) - self.received(row.id, n))
                for n, file in enumerate(row.files)
            )
        free = shutil.disk_usage(self.ports.packages).free
        if wanted + coming + MARGIN > free:
            raise Conflict(
                f"the package is {size_text(wanted)} long, {size_text(coming)} more are on their"
                f" way, but only {size_text(free)} are free here",
                code="disk-full",
                hint="Free space on the server's disk, or move its data folder.",
            )

    async def from_url(self, url: str, sha256: str = "") -> TakeIn:
        """Fetch a package from a web server, in the background. Raises InputError for an address
        that may not be dialled.
        """
        if (
            len(url) > 2000
            or urlsplit(url).scheme not in ("http", "https")
            or not urlsplit(url).hostname
        ):
            raise InputError(
                "the address must begin with http:// or https:// and name a host", code="url"
            )
        if sha256 and (len(sha256) != 64 or set(sha256.lower()) - set("0123456789abcdef")):
            raise InputError("a SHA-256 has 64 hexadecimal digits", code="url-digest")
        await self.ports.reach.may_fetch(url)
        name = (
            "".join(
                c
                for c in unquote(PurePosixPath(urlsplit(url).path).name)
                if c.isprintable() and c not in "/\\"
            )
            or "package"
        )
        row = await self.begin(
            "url", name, [TakeInFile(name, None)], origin=shown(url), sha256=sha256
        )
        await self.ports.keep_secret(_address_entry(row.id), url, "url")
        self._begin(row.id, self._fetch(row.id))
        return row

    # --- receiving ---

    def received(self, ident: str, number: int) -> int:
        """Bytes of a file that have arrived."""
        try:
            return self.part(ident, number).stat().st_size
        except FileNotFoundError:
            return 0

    async def receive(
        self, ident: str, number: int, offset: int, pieces: AsyncIterator[bytes]
    ) -> int:
        """Append to a file; the bytes it has now. What arrived before a break stays. Raises
        Conflict when `offset` is not where it stands.
        """
        row = await self.ports.store.read(library.get_take_in, ident)
        if row.state != "receiving" or number >= len(row.files):
            raise Conflict("this import expects no bytes", code="take-in-ended")
        lock = self._locks.setdefault(f"{ident}.{number}", asyncio.Lock())
        if lock.locked():
            raise Conflict("another connection is sending this file", code="take-in-busy")
        async with lock:
            have = self.received(ident, number)
            if have != offset:
                raise Conflict(f"the file is at byte {have}, not {offset}", code="take-in-offset")
            size = row.files[number].size
            await self._write(row, number, have, size, pieces)
        await self.ports.store.write(library.touch_take_in, ident, self.ports.clock())
        got = self.received(ident, number)
        if ident not in self._stopped and all(
            file.size is not None and self.received(ident, n) == file.size
            for n, file in enumerate(row.files)
        ):
            await self.complete(ident)
        return got

    async def _write(
        self, row: TakeIn, number: int, at: int, size: int | None, pieces: AsyncIterator[bytes]
    ) -> None:
        before = sum(self.received(row.id, n) for n in range(len(row.files)) if n != number)
        part = _Part(self, row, number, at, before)
        try:
            try:
                async for piece in pieces:
                    if row.id in self._stopped:
                        raise Conflict("it was stopped", code="take-in-ended")
                    await part.add(piece, size)
            finally:
                # what came before a break is not asked for again
                await part.close()
        except (StoneError, OSError) as error:
            known = (
                error
                if isinstance(error, StoneError)
                else Conflict(
                    f"the file cannot be written here: {error.strerror}", code="disk-full"
                )
            )
            if known.code != "take-in-ended":
                await self._fail(await self.ports.store.read(library.get_take_in, row.id), known)
            raise known from error

    def glance(self, row: TakeIn, number: int) -> None:
        """Refuse at once what its first bytes show to be nothing of ours, instead of after a
        hundred gigabytes.
        """
        with open(self.part(row.id, number), "rb") as file:
            if kinds.tell(file.read(kinds.HEAD)) == "unknown" and not row.name.lower().endswith(
                (".raw", ".img")
            ):
                raise FormatError(
                    f"“{row.name}” is not an OVA, OVF, disk image, ISO image or kernel",
                    code="not-a-package",
                    hint="The type is detected from the first bytes, not from the name.",
                )

    async def stop(self, ident: str) -> None:
        """End a take-in; nothing of it is kept."""
        row = await self.ports.store.read(library.get_take_in, ident)
        if row.state not in ("receiving", "verifying"):
            await self.ports.store.write(library.drop_take_in, ident)
            return
        self._stopped.add(ident)
        task = self._tasks.pop(ident, None)
        if task:
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)
        await self._end(row, "stopped")

    async def _end(self, row: TakeIn, state: str, **more: Any) -> None:
        await asyncio.to_thread(shutil.rmtree, self._folder(row.id), True)
        await self.ports.store.write(
            library.put_take_in, replace(row, state=state, changed_at=self.ports.clock(), **more)
        )
        await self.ports.store.write(entries.drop_secrets, _address_entry(row.id))
        self.progress.pop(row.id, None)

    async def _fail(self, row: TakeIn, error: StoneError) -> None:
        findings = error.findings if isinstance(error, Refused) else []
        log.info("import of %s failed: %s", row.name, self.ports.blank(str(error)))
        await self._end(
            row,
            "failed",
            problem={
                "code": error.code,
                "message": self.ports.blank(str(error)),
                "hint": error.hint,
                "findings": findings,
            },
        )

    # --- from a URL ---

    async def _fetch(self, ident: str) -> None:
        """Fetch with resumption: a connection that breaks is taken up by range where the server
        can, else begun again.
        """
        row = await self.ports.store.read(library.get_take_in, ident)
        url = await self._address_of(row)
        progress = self.progress.setdefault(ident, Progress())
        tries = 0
        while True:
            have = self.received(ident, 0)
            try:
                async with self.ports.reach.fetch(url, have) as answer:
                    if answer.offset != have:
                        # it cannot resume: from the start again
                        self.part(ident, 0).unlink(missing_ok=True)
                        have = answer.offset
                    if answer.total is not None:
                        await self._room(answer.total - have)
                        if row.files[0].size not in (None, answer.total):
                            raise RemoteFailed(
                                "the file on the web server changed its size while it was being"
                                " fetched",
                                code="url-changed",
                            )
                        row = replace(row, files=(TakeInFile(row.name, answer.total),))
                        await self.ports.store.write(library.put_take_in, row)
                    progress.set(have, answer.total or 0)
                    await self._write(row, 0, have, answer.total, answer.pieces)
                    if answer.total is None or self.received(ident, 0) == answer.total:
                        break
                    raise Unreachable("the connection ended early")
            except RemoteError as error:
                if not error.retryable or isinstance(error, RemoteFailed):
                    raise
                tries = tries + 1 if self.received(ident, 0) == have else 0
                if tries >= URL_TRIES:
                    raise
                await self.ports.pause(min(30.0, 0.5 * 2**tries))
        await self.complete(ident, here=True)

    async def _address_of(self, row: TakeIn) -> str:
        """The whole address, which may hold a password or token; it lies in the keyring as long as
        it is fetched from.
        """
        try:
            url = await self.ports.open_secret(_address_entry(row.id))
        except NotFound:
            # begun by a version that kept it here
            url = row.origin
        for secret in secrets_of(url):
            self.ports.hide(secret)
        return url

    # --- from a folder ---

    async def _look(self) -> None:
        """Watch the inbox: a file that has not changed between two looks is taken in; what failed
        is left until it changes.
        """
        seen: dict[str, tuple[int, int]] = {}
        done: dict[str, tuple[int, int]] = {
            row.origin: tuple(row.problem.get("stamp", (0, 0)))
            for row in await self.ports.store.read(library.take_ins)
            if row.source == "folder" and row.state in ("failed",)
        }
        while True:
            try:
                found = await asyncio.to_thread(_scan, self.inbox) if self.inbox else {}
                for path, stamp in found.items():
                    if seen.get(path) == stamp and done.get(path) != stamp:
                        done[path] = stamp
                        await self._one_of_folder(Path(path), stamp)
                seen = found
            except (StoneError, OSError) as error:
                log.warning("watched folder: %s", error)
            await self.ports.pause(LOOK_S)

    async def _one_of_folder(self, path: Path, stamp: tuple[int, int]) -> None:
        """One file of the folder; whatever is wrong with it does not stop the others, and is
        told.
        """
        try:
            try:
                str(path).encode()
            except UnicodeEncodeError:
                raise InputError(
                    "The file's name is not UTF-8.", code="take-in-name", hint="Rename the file."
                ) from None
            await self._from_folder(path, stamp)
        except StoneError as error:
            log.warning("watched folder: %s: %s", os.fsencode(path), error)
            await self._note_failed(path, stamp, error)
        except Exception as error:
            log.exception("watched folder: %s", os.fsencode(path))
            await self._note_failed(
                path,
                stamp,
                StoneError(
                    f"An internal error: {type(error).__name__}. See the server's log.",
                    code="fault",
                ),
            )

    async def _note_failed(self, path: Path, stamp: tuple[int, int], error: StoneError) -> None:
        now = self.ports.clock()
        name = os.fsencode(path.name).decode("utf-8", "backslashreplace")[:200]
        origin = os.fsencode(path).decode("utf-8", "backslashreplace")[:2000]
        problem = {
            "code": error.code,
            "message": str(error),
            "hint": error.hint,
            "findings": [],
            "stamp": list(stamp),
        }
        await self.ports.store.write(
            library.put_take_in,
            TakeIn(
                secrets.token_hex(8),
                "folder",
                name,
                origin,
                "failed",
                (),
                "",
                "",
                problem,
                now,
                now,
            ),
        )

    async def _from_folder(self, path: Path, stamp: tuple[int, int]) -> None:
        if any(
            row.source == "folder"
            and row.origin == str(path)
            and row.state == "done"
            and row.began_at * 1e9 > stamp[1]
            for row in await self.ports.store.read(library.take_ins)
        ):
            return
        row: TakeIn | None = None
        try:
            with opened(path) as given:
                row = await self.begin(
                    "folder",
                    path.name,
                    [TakeInFile(g.name, g.source.size_bytes) for g in given],
                    origin=str(path),
                )
                for number, file in enumerate(given):
                    await self._write(row, number, 0, file.source.size_bytes, _read(file.source))
            await self.complete(row.id)
        except StoneError as error:
            if row is None:
                now = self.ports.clock()
                row = TakeIn(
                    secrets.token_hex(8),
                    "folder",
                    path.name,
                    str(path),
                    "receiving",
                    (TakeInFile(path.name, None),),
                    "",
                    "",
                    {},
                    now,
                    now,
                )
            await self._fail(row, error)

    # --- examining and keeping ---

    async def complete(self, ident: str, *, here: bool = False) -> None:
        """All bytes are there: examine them and move them into the store."""
        row = await self.ports.store.read(library.get_take_in, ident)
        await self.ports.store.write(
            library.put_take_in, replace(row, state="verifying", changed_at=self.ports.clock())
        )
        if here:
            await self._verify(ident)
        else:
            self._begin(ident, self._verify(ident))

    async def wait(self, ident: str) -> TakeIn:
        """The attempt, once it has ended."""
        task = self._tasks.get(ident)
        if task:
            await asyncio.wait([task])
        return await self.ports.store.read(library.get_take_in, ident)

    async def _verify(self, ident: str) -> None:
        row = await self.ports.store.read(library.get_take_in, ident)
        progress = self.progress.setdefault(ident, Progress())
        trust = await trusted_certificates(self.ports)
        async with self._verifying:
            contents, thin = await asyncio.to_thread(self._take_apart, row, progress, trust)
        own = title_of(contents, row.name)
        await self.ports.store.write(
            records.put_package,
            PackageRow(
                contents.sha256,
                own[0],
                own[1],
                stored.dump(contents),
                contents.size,
                thin,
                row.name,
                self.ports.clock(),
                contents.format,
            ),
        )
        await self._end(row, "done", package=contents.sha256)

    def _take_apart(
        self, row: TakeIn, progress: Progress, trust: list[Any]
    ) -> tuple[Contents, int]:
        """Digest, examine, unpack, keep. Runs in a thread. Raises FormatError with everything that
        was found.
        """
        parts = [
            (file.name, self.part(row.id, number), "") for number, file in enumerate(row.files)
        ]
        if row.sha256:
            with open(parts[0][1], "rb") as file:
                found = hash_source(FileSource(file.fileno()), "sha256")
            if found != row.sha256:
                raise FormatError(
                    f"its SHA-256 is {found[:16]}…, but {row.sha256[:16]}… was given with the"
                    " address",
                    code="url-digest",
                    hint="Compare the digest with the publisher's page; do not use this copy.",
                )
        if len(parts) == 1:
            parts = [self._unpack_whole(*parts[0][:2])]
        contents = self._examine(parts, progress, trust, stopped=lambda: row.id in self._stopped)
        if contents.blockers:
            raise Refused(contents)
        contents = replace(contents, unpacked=tuple(self._unpack_files(row, contents, parts)))
        digests = {
            path: member.blob
            for (name, path, _) in parts
            for member in contents.members
            if member.name == name or contents.format == "ova"
        }
        moved = []
        try:
            for path, digest in digests.items():
                final = stored.blob(self.ports.packages, digest)
                if not final.exists():
                    os.replace(path, final)
                    moved.append(final)
            _sync(stored.blob(self.ports.packages, "x").parent)
            return contents, stored.thin_bytes(self.ports.packages, contents)
        except BaseException:
            for final in moved:
                final.unlink(missing_ok=True)
            raise

    def _examine(
        self,
        parts: list[tuple[str, Path, str]],
        progress: Progress,
        trust: Any,
        stopped: Any = lambda: False,
    ) -> Contents:
        """Examine files while their digests are computed beside it."""
        with contextlib.ExitStack() as stack, ThreadPoolExecutor(1, "digest") as beside:
            sources = []
            for _, path, _ in parts:
                descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
                stack.callback(os.close, descriptor)
                sources.append(FileSource(descriptor))
            total = sum(source.size_bytes for source in sources)
            done = 0

            def tell(count: int) -> None:
                nonlocal done
                done += count
                progress.set(done, total)
                if stopped():
                    raise Conflict("it was stopped", code="take-in-ended")

            digests = beside.submit(
                lambda: [
                    known or hash_source(source, "sha256", tell)
                    for source, (_, _, known) in zip(sources, parts, strict=True)
                ]
            )
            given = [
                Given(name, source) for (name, _, _), source in zip(parts, sources, strict=True)
            ]
            contents = examine(given, trust=trust, now=self.ports.clock())
            found = digests.result()
        by_name = {name: digest for (name, _, _), digest in zip(parts, found, strict=True)}
        if len(parts) == 1:
            ident = found[0]
            members = tuple(
                replace(m, blob=ident, sha256=m.sha256 or (ident if m.name == parts[0][0] else ""))
                for m in contents.members
            )
        else:
            ident = hashlib.sha256(
                "\n".join(sorted(f"{digest} {name}" for name, digest in by_name.items())).encode()
            ).hexdigest()
            members = tuple(
                replace(m, blob=by_name[m.name], sha256=by_name[m.name]) for m in contents.members
            )
        return replace(contents, sha256=ident, members=members)

    def _unpack_whole(self, name: str, path: Path) -> tuple[str, Path, str]:
        """A disk image packed as a whole is kept unpacked (with its holes), under its name without
        the packing's ending.
        """
        with open(path, "rb") as file:
            kind = kinds.tell(file.read(kinds.HEAD))
            if kind not in ("gzip", "xz"):
                return name, path, ""
            inner = kinds.tell(packed.peek(FileSource(file.fileno()), kind, 1 << 20).head)
            if inner not in ("qcow2", "vmdk", "raw", "iso"):
                return name, path, ""
            out = path.with_suffix(".unpacked")
            self._write_unpacked(packed.stream(FileSource(file.fileno()), kind), out)
        stem = name.rsplit(".", 1)[0] if name.lower().endswith((".gz", ".xz")) else name
        return stem, out, ""

    def _unpack_files(
        self, row: TakeIn, contents: Contents, parts: list[tuple[str, Path, str]]
    ) -> Iterator[tuple[str, str]]:
        """The descriptor's files that are packed by gzip, each unpacked into the store."""
        paths = {name: path for name, path, _ in parts}
        members = {member.name: member for member in contents.members}
        sizes = {member.name: member.size for member in contents.members}
        for number, file in enumerate(contents.envelope.files if contents.envelope else ()):
            pieces = pieces_of(file, sizes.get)
            if file.packed != "gzip" or any(name not in members for name in pieces):
                continue
            with contextlib.ExitStack() as stack:
                sources: list[Source] = []
                # a packed file may also be cut into pieces (DSP0243 7.1)
                for name in pieces:
                    opened = stack.enter_context(open(paths.get(name, parts[0][1]), "rb"))
                    sources.append(
                        FileSource(opened.fileno(), members[name].offset, members[name].size)
                    )
                out = self._folder(row.id) / f"{number}.unpacked"
                self._write_unpacked(packed.stream(ConcatSource(sources), "gzip"), out)
            with open(out, "rb") as made:
                digest = hash_source(FileSource(made.fileno()), "sha256")
            os.replace(out, stored.blob(self.ports.packages, digest))
            yield file.href, digest

    def _write_unpacked(self, pieces: Iterator[bytes], out: Path) -> None:
        descriptor = os.open(out, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            at = 0
            for piece in pieces:
                _put(descriptor, at, piece)
                at += len(piece)
                if at % (64 << 20) < len(piece) and shutil.disk_usage(out.parent).free < MARGIN:
                    raise Conflict(
                        "the disk filled up while the package was unpacked",
                        code="disk-full",
                        hint="Free space on the server's disk.",
                    )
            os.fsync(descriptor)
        finally:
            os.close(descriptor)

    # --- removing ---

    async def remove(self, sha256: str) -> None:
        """Remove a package that neither a plan nor a run uses, and those of its bytes that no other
        package needs.
        """
        row = await self.ports.store.read(records.find_package, sha256)
        if row is None:
            raise NotFound("no such package")
        await self.ports.store.write(records.remove_package, row.sha256)
        spool.forget(self.ports.packages, row.sha256, stored.disk_ids(stored.contents_of(row)))
        extents.forget(self.ports.packages, row.sha256)
        installers.forget(self.ports.packages, row.sha256)
        needed = set()
        for other in await self.ports.store.read(records.packages):
            needed |= stored.blobs_of(stored.contents_of(other))
        for digest in stored.blobs_of(stored.contents_of(row)) - needed:
            stored.blob(self.ports.packages, digest).unlink(missing_ok=True)


NO_VERSION = "(no version)"
_EXTENSIONS = re.compile(r"(\.(qcow2|vmdk|img|raw|gz|xz))+$", re.IGNORECASE)
"""Stands where a package tells none; part of how plans name it."""


def _set_name(contents: Contents, name: str) -> str:
    """A package of several systems is none of them: it is named by its file."""
    stem = contents.members[0].name if contents.members else name
    return stem.rpartition(".")[0] or stem


def title_of(contents: Contents, name: str) -> tuple[str, str]:
    """(product, version): as the package or the label of an ISO says, else its file's name and the
    first digits of its digest.
    """
    systems = contents.envelope.systems if contents.envelope else ()
    for system in systems:
        for product in system.products:
            if product.product:
                return product.product, product.version or product.full_version or NO_VERSION
    if len(systems) > 1:
        return _set_name(contents, name), NO_VERSION
    if systems and (systems[0].name or systems[0].id):
        return systems[0].name or systems[0].id, NO_VERSION
    stem = contents.members[0].name if contents.members else name
    if contents.iso is not None and contents.iso.label:
        title, version = installing.named(contents.iso.label)
        return title, version or contents.sha256[:8]
    if contents.disks:
        title, version = installing.named(_EXTENSIONS.sub("", stem))
        return title, version or contents.sha256[:8]
    return stem, contents.sha256[:8]


def _put(descriptor: int, offset: int, data: bytes) -> None:
    """Write, leaving holes for blocks of zeros, so that zeros are neither kept nor read nor sent
    later.
    """
    end = offset + len(data)
    for at in range(0, len(data), BLOCK):
        piece = data[at : at + BLOCK]
        if piece != _ZERO[: len(piece)]:
            view = memoryview(piece)
            place = offset + at
            while view:
                count = os.pwrite(descriptor, view, place)
                view, place = view[count:], place + count
    if os.fstat(descriptor).st_size < end:
        os.ftruncate(descriptor, end)


def _sync(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


async def _read(source: Any) -> AsyncIterator[bytes]:
    at = 0
    while at < source.size_bytes:
        piece = await asyncio.to_thread(source.read_at, at, min(1 << 20, source.size_bytes - at))
        at += len(piece)
        yield piece


def _scan(folder: Path) -> dict[str, tuple[int, int]]:
    """Plain files of the inbox that may begin a package: path → (size, time of change in ns). Files
    that belong to another are left out.
    """
    found: dict[str, tuple[int, int]] = {}
    if not folder.is_dir():
        return found
    for place in [
        folder,
        *(entry for entry in sorted(folder.iterdir()) if entry.is_dir() and not entry.is_symlink()),
    ][:200]:
        entries = [
            entry
            for entry in sorted(place.iterdir())[:MAX_FILES]
            if entry.is_file() and not entry.is_symlink()
        ]
        leads = [entry for entry in entries if entry.suffix.lower() == ".ovf"]
        belonging: set[str] = set()
        for lead in leads:
            with contextlib.suppress(StoneError), opened(lead) as given:
                belonging |= {g.name for g in given if g.name != lead.name}
        for entry in entries:
            if (
                entry.name in belonging
                or entry.name.startswith(".")
                or entry.suffix in (".part", ".tmp", ".crdownload", ".mf", ".cert")
            ):
                continue
            state = entry.stat()
            newest = (
                max(
                    [
                        state.st_mtime_ns,
                        *(
                            place.joinpath(n).stat().st_mtime_ns
                            for n in belonging
                            if place.joinpath(n).exists()
                        ),
                    ]
                )
                if entry in leads
                else state.st_mtime_ns
            )
            found[str(entry)] = (state.st_size, newest)
    return found
