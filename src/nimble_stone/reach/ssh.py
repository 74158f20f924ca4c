"""SSH: pinned host keys, one connection per target kept open, every command with its own time limit
and output cap.
"""

from __future__ import annotations

import asyncio
import hashlib
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from contextlib import asynccontextmanager, contextmanager
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import asyncssh

from nimble_stone.core import console_keys
from nimble_stone.core.errors import (
    HostKeyChanged,
    LoginRefused,
    RemoteFailed,
    RemoteTimeout,
    Unreachable,
)
from nimble_stone.core.redaction import shortened
from nimble_stone.reach.policy import DialPolicy

MAX_OUTPUT = 8 << 20
OPENINGS = 3
"""Connections on which a command is begun, where the one before was gone already."""
OPENS_S = 10.0
"""How long a kept connection may take to open a session: no process is made for it, so it is there
at once, or the other side has no power any more and says nothing.
"""
REFUSED_S, PAUSE_S = 15.0, 0.25
"""How long a server is asked for a session that it refuses, and how often."""
ALONE = "dropbear"
"""A server that mixes up sessions which go on side by side on one connection: of version 2022.83, 7
in 100 ended without a word, having run or not. Each of its connections has one session at a time.
"""
CHANNELS = 6
PIECE = 256 << 10
"""How much of an answer is handed on at once."""
GRACE_S = 5.0


@dataclass(frozen=True)
class Credential:
    """How to log in: a password or a private key (OpenSSH or PEM text)."""

    user: str
    password: str = field(default="", repr=False)
    key: str = field(default="", repr=False)


@dataclass(frozen=True)
class Target:
    """A machine to log in to, by its planned address. `name` is for people."""

    name: str
    address: str
    port: int
    credential: Credential


@dataclass(frozen=True)
class Answer:
    """What a command answered."""

    status: int
    out: bytes
    err: str
    seconds: float

    @property
    def text(self) -> str:
        """Standard output as text, without surrounding white space."""
        return self.out.decode("utf-8", "replace").strip()


class Pins:
    """Where fingerprints are kept: given by the store."""

    def __init__(
        self,
        get: Callable[[str], Awaitable[str | None]],
        put: Callable[[str, str], Awaitable[None]],
    ) -> None:
        self.get, self.put = get, put


HOST_KEY_ALGORITHMS = ["rsa-sha2-256", "rsa-sha2-512", *console_keys.KINDS[1:], "ssh-rsa"]
"""In which order host keys are asked for (RFC 4253, 7.1; RFC 8332): a machine with several always
shows the same one. RSA with SHA-1 comes last.
"""


class _Client(asyncssh.SSHClient):
    """Accepts the pinned key, or any key at first use; remembers what was shown."""

    def __init__(self, pinned: str | None) -> None:
        self.pinned, self.shown = pinned, ""

    def validate_host_public_key(
        self, host: str, addr: str, port: int, key: asyncssh.SSHKey
    ) -> bool:
        self.shown = key.get_fingerprint()
        return self.pinned is None or self.pinned == self.shown


class _Process(asyncssh.SSHClientProcess[bytes]):
    """A command of ours, which knows whether the other side has run it. A small server may end one
    that prints nothing before it confirms that it began: for the library that is a refusal.
    """

    def __init__(self) -> None:
        super().__init__()
        self._opened: asyncssh.SSHClientChannel[bytes] | None = None
        self.when_opened: Callable[[], None] | None = None

    def connection_made(self, chan: Any) -> None:
        """Its session was opened."""
        assert isinstance(chan, asyncssh.SSHClientChannel)
        self._opened = chan
        if self.when_opened:
            self.when_opened()
        super().connection_made(chan)

    @property
    def was_opened(self) -> bool:
        """Whether it got its session, so that the command was sent."""
        return self._opened is not None

    @property
    def told(self) -> int | None:
        """The status of its end, None where none was told; by a signal 128."""
        if self._opened is None:
            return None
        by_signal = self._opened.get_exit_signal() is not None
        return 128 if by_signal else self._opened.get_exit_status()


@dataclass(frozen=True)
class _Begun:
    """A command that runs, or, with a `status`, that has run and printed nothing."""

    process: _Process
    status: int | None = None


class Ssh:
    """Connections by target. Close with `close`."""

    def __init__(self, policy: DialPolicy, pins: Pins) -> None:
        self._policy, self._pins = policy, pins
        self._open: dict[_Key, asyncssh.SSHClientConnection] = {}
        self._dials: dict[_Key, asyncio.Task[asyncssh.SSHClientConnection]] = {}
        self._aside: set[asyncssh.SSHClientConnection] = set()
        self._channels: dict[_Key, asyncio.Semaphore] = {}
        self._alone: dict[_Key, asyncio.Queue[_Key]] = {}

    async def close(self) -> None:
        """Close all connections."""
        for dial in list(self._dials.values()):
            dial.cancel()
        for connection in [*self._open.values(), *self._aside]:
            connection.abort()
        self._open.clear()
        self._aside.clear()

    async def run(
        self, target: Target, command: str, *, data: bytes = b"", limit_s: float = 60.0
    ) -> Answer:
        """Run one command. The caller's command carries its own remote time limit; ours ends a
        little later.

        Raises: Unreachable, LoginRefused, HostKeyChanged, RemoteTimeout, RemoteFailed (too much
        output).
        """

        async def once(piece: bytes = data) -> AsyncIterator[bytes]:
            if piece:
                yield piece

        return await self.stream(target, command, once(), limit_s=limit_s)

    async def stream(
        self,
        target: Target,
        command: str,
        data: AsyncIterator[bytes],
        *,
        limit_s: float,
        sent: Callable[[int], None] | None = None,
    ) -> Answer:
        """Run a command while feeding its standard input. `sent` is told the bytes sent so far."""
        began = time.monotonic()
        async with self._lane(target) as lane:
            with _told(target, command, limit_s):
                begun = await self._begun(target, lane, command, limit_s)
                if begun.status is not None:
                    return Answer(begun.status, b"", "", time.monotonic() - began)
                async with asyncio.timeout(limit_s + GRACE_S):
                    return await _converse(begun.process, command, data, began, sent)

    async def fetch(self, target: Target, command: str, *, limit_s: float) -> AsyncIterator[bytes]:
        """What a command prints, piece by piece, however much it is. Raises what `stream` raises,
        RemoteFailed with the command's words where it fails.
        """
        async with self._lane(target) as lane:
            with _told(target, command, limit_s):
                begun = await self._begun(target, lane, command, limit_s)
                end = time.monotonic() + limit_s + GRACE_S
                process, err = begun.process, b""
                try:
                    while begun.status is None:
                        async with asyncio.timeout(max(0.0, end - time.monotonic())):
                            piece = await process.stdout.read(PIECE)
                        if not piece:
                            err = await process.stderr.read(4096)
                            await process.wait_closed()
                            break
                        yield piece
                finally:
                    process.close()
        status = process.exit_status if begun.status is None else begun.status
        if status != 0:
            words = err.decode("utf-8", "replace").strip()[:300]
            raise RemoteFailed(
                f"{target.name}: {words or f'ended with status {status}'}",
                target=target.name,
                operation=command,
                hint="See the transcript, fix the host, then retry.",
            )

    @asynccontextmanager
    async def _lane(self, target: Target) -> AsyncIterator[_Key]:
        """Which connection a command takes, dialled: how long that may take is not the command's
        affair. One is shared by several at a time, unless the server cannot do that.
        """
        key = _key(target)
        async with self._channels.setdefault(key, asyncio.Semaphore(CHANNELS)):
            connection = await self._connection(target, key)
            if ALONE not in str(connection.get_extra_info("server_version")).lower():
                yield key
                return
            if key not in self._alone:
                self._alone[key] = asyncio.Queue()
                for lane in (key, (*key, "second")):
                    self._alone[key].put_nowait(lane)
            lane = await self._alone[key].get()
            try:
                await self._connection(target, lane)
                yield lane
            finally:
                self._alone[key].put_nowait(lane)

    async def _begun(self, target: Target, lane: _Key, command: str, limit_s: float) -> _Begun:
        """The command, begun. Until then nothing has happened on the other side, so it is tried
        again: on a new connection where the far end of a kept one is gone (its machine was made
        again, or has no power), or a little later where it takes no further session beside those
        that are open. One that was sent is never begun again: nobody knows whether it has run.
        Raises Unreachable when it takes none for long, TimeoutError when it does not say within
        `limit_s` that a command began.
        """
        end, dialled = time.monotonic() + REFUSED_S, 0
        while True:
            known = self._open.get(lane)
            kept = known is not None and not known.is_closed()
            connection, process = await self._connection(target, lane), _Process()
            try:
                async with asyncio.timeout(OPENS_S if kept else limit_s + GRACE_S) as wait:
                    process.when_opened = partial(_not_before, wait, limit_s + GRACE_S)
                    await connection.create_session(partial(_same, process), command, encoding=None)
                    await process.redirect()
                return _Begun(process)
            except TimeoutError:
                if process.was_opened or not kept:
                    raise
                self._set_aside(lane, connection)
            except asyncssh.ChannelOpenError as error:
                if process.told is not None:
                    # what it printed would have kept its session open
                    return _Begun(process, process.told)
                if process.was_opened:
                    raise
                if connection.is_closed():
                    dialled += 1
                    if dialled == OPENINGS:
                        raise
                elif time.monotonic() > end:
                    raise Unreachable(
                        f"{target.name} opens no session: {error.reason}",
                        target=target.name,
                        operation=command,
                        hint="See how many sessions its SSH server allows, and whether it is"
                        " overloaded; retry.",
                    ) from error
                else:
                    await asyncio.sleep(PAUSE_S)

    async def fingerprint(self, address: str, port: int) -> str:
        """The host key a machine shows, without logging in and without pinning it. Raises
        Unreachable, InputError.
        """
        host, real_port = self._policy.real(address, port)
        try:
            async with asyncio.timeout(self._policy.connect_seconds):
                key = await asyncssh.get_server_host_key(
                    host, real_port, config=None, server_host_key_algs=HOST_KEY_ALGORITHMS
                )
        except TimeoutError as error:
            raise Unreachable(
                f"{address}:{port} does not answer within {self._policy.connect_seconds:g} s",
                target=address,
                operation="connect",
            ) from error
        except (OSError, ValueError, asyncssh.Error) as error:
            raise Unreachable(
                f"{address}:{port} cannot be reached: {_reason(error)}",
                target=address,
                operation="connect",
            ) from error
        if key is None:
            raise Unreachable(
                f"{address}:{port} shows no host key", target=address, operation="connect"
            )
        return key.get_fingerprint()

    async def try_out(
        self,
        target: Target,
        fingerprint: str,
        command: str,
        *,
        data: bytes = b"",
        limit_s: float = 15.0,
    ) -> Answer:
        """Log in to a machine that shows this very key, run one command, and forget the connection.
        Nothing is pinned.
        """

        async def get(_: str) -> str:
            return fingerprint

        async def put(_: str, __: str) -> None:
            return

        once = Ssh(self._policy, Pins(get, put))
        try:
            return await once.run(target, command, data=data, limit_s=limit_s)
        finally:
            await once.close()

    def _set_aside(self, lane: _Key, connection: asyncssh.SSHClientConnection) -> None:
        """Begin nothing on it any more. What runs on it goes on: it may be slow, not gone."""
        self._aside = {one for one in self._aside if not one.is_closed()} | {connection}
        if self._open.get(lane) is connection:
            del self._open[lane]

    async def _connection(self, target: Target, key: _Key) -> asyncssh.SSHClientConnection:
        """The kept one, or a new one; who asks while it is dialled shares what comes of it."""
        known = self._open.get(key)
        if known is not None and not known.is_closed():
            return known
        dial = self._dials.get(key)
        if dial is None:
            dial = self._dials[key] = asyncio.create_task(self._dialled(target, key))
            # whoever wanted it may be gone by then
            dial.add_done_callback(_heard)
        return await asyncio.shield(dial)

    async def _dialled(self, target: Target, key: _Key) -> asyncssh.SSHClientConnection:
        try:
            self._open[key] = await self._connect(target)
            return self._open[key]
        finally:
            del self._dials[key]

    async def _connect(self, target: Target) -> asyncssh.SSHClientConnection:
        host, port = self._policy.real(target.address, target.port)
        place = f"{target.address}:{target.port}"
        client = _Client(await self._pins.get(place))
        credential = target.credential
        try:
            keys = [asyncssh.import_private_key(credential.key)] if credential.key else None
            async with asyncio.timeout(self._policy.connect_seconds):
                connection = await asyncssh.connect(
                    host,
                    port,
                    username=credential.user,
                    password=credential.password or None,
                    client_keys=keys,
                    client_factory=lambda: client,
                    known_hosts=([], [], []),
                    config=None,
                    agent_path=None,
                    keepalive_interval=15,
                    server_host_key_algs=HOST_KEY_ALGORITHMS,
                    encryption_algs=[
                        "aes128-gcm@openssh.com",
                        "aes256-gcm@openssh.com",
                        "aes256-ctr",
                        "aes128-ctr",
                    ],
                    compression_algs=["none"],
                )
        except asyncssh.HostKeyNotVerifiable as error:
            raise HostKeyChanged(
                f"{target.name} shows host key {client.shown}, but {client.pinned} was pinned. The"
                " machine was reinstalled, or the connection is intercepted",
                target=target.name,
                operation="connect",
                hint=(
                    "Compare the fingerprint on its console. Only if it matches: unpin a host's old"
                    " key on the estate page; confirm a node's new one on its plan's page."
                ),
            ) from error
        except (asyncssh.PermissionDenied, asyncssh.KeyImportError) as error:
            raise LoginRefused(
                f"{target.name} rejected the login for “{credential.user}”",
                target=target.name,
                operation="login",
                hint="Correct the credential in the keyring.",
            ) from error
        except TimeoutError as error:
            raise Unreachable(
                f"{target.name} ({place}) does not answer within"
                f" {self._policy.connect_seconds:g} s",
                target=target.name,
                operation="connect",
                hint="Check that it is up and the address is right.",
            ) from error
        except (OSError, ValueError, asyncssh.Error) as error:
            # ValueError: packets that are none
            raise Unreachable(
                f"{target.name} ({place}) cannot be reached: {_reason(error)}",
                target=target.name,
                operation="connect",
                hint="Check that it is up and the address is right.",
            ) from error
        if client.pinned is None and client.shown:
            await self._pins.put(place, client.shown)
        return connection


@contextmanager
def _told(target: Target, command: str, limit_s: float) -> Iterator[None]:
    """What goes wrong during a command, in our words."""
    try:
        yield
    except TimeoutError as error:
        raise RemoteTimeout(
            f"{target.name} did not finish within {limit_s:g} s: {shortened(command, 120)}",
            target=target.name,
            operation=command,
            hint="See whether the host is overloaded; retry.",
        ) from error
    except (asyncssh.Error, OSError, ValueError) as error:
        raise Unreachable(
            f"the connection to {target.name} was lost during a command: {_reason(error)}",
            target=target.name,
            operation=command,
            hint="Check that the host is up, then retry.",
        ) from error


def _same(process: _Process) -> _Process:
    return process


def _heard(dial: asyncio.Task[asyncssh.SSHClientConnection]) -> None:
    """Its error is no news where none waits for it any more."""
    if not dial.cancelled():
        dial.exception()


def _not_before(wait: asyncio.Timeout, seconds: float) -> None:
    """From now on that long."""
    wait.reschedule(asyncio.get_running_loop().time() + seconds)


async def _converse(
    process: asyncssh.SSHClientProcess[bytes],
    command: str,
    data: AsyncIterator[bytes],
    began: float,
    sent: Callable[[int], None] | None,
) -> Answer:
    async def feed() -> None:
        total = 0
        try:
            async for piece in data:
                process.stdin.write(piece)
                await process.stdin.drain()
                total += len(piece)
                if sent:
                    sent(total)
            process.stdin.write_eof()
        except (BrokenPipeError, ConnectionResetError):
            # the command ended early; its own words say why
            pass

    feeding = asyncio.create_task(feed())
    try:
        # what feeds it may fail while it waits for more
        out, err, _ = await asyncio.gather(
            _capped(process.stdout, command), _capped(process.stderr, command), feeding
        )
        await process.wait_closed()
    finally:
        feeding.cancel()
        process.close()
    status = process.exit_status
    if status is None:
        if process.exit_signal is None:
            raise asyncssh.ConnectionLost("the connection ended before the command did")
        status = 128
    return Answer(status, out, err.decode("utf-8", "replace").strip(), time.monotonic() - began)


async def _capped(reader: asyncssh.SSHReader[bytes], command: str) -> bytes:
    pieces, total = [], 0
    while piece := await reader.read(65536):
        total += len(piece)
        if total > MAX_OUTPUT:
            raise RemoteFailed(
                f"a command answered with more than {MAX_OUTPUT >> 20} MiB:"
                f" {shortened(command, 120)}",
                operation=command,
            )
        pieces.append(piece)
    return b"".join(pieces)


_Key = tuple[str, ...]


def _key(target: Target) -> _Key:
    secret = hashlib.sha256(
        (target.credential.password + "\0" + target.credential.key).encode()
    ).hexdigest()
    return (target.address, str(target.port), target.credential.user, secret)


def _reason(error: BaseException) -> str:
    return {
        "ConnectionRefusedError": "no service listens on this port",
        "ConnectionLost": "connection lost",
        # by then the connection is: a session that is refused is told otherwise
        "ChannelOpenError": "connection closed",
        "ConnectionResetError": "connection reset",
    }.get(type(error).__name__, str(error)[:160] or type(error).__name__)
