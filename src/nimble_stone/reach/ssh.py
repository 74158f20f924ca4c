"""SSH: pinned host keys, one connection per target kept open, every command with its own time limit
and output cap.
"""

from __future__ import annotations

import asyncio
import hashlib
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import dataclass, field

import asyncssh

from nimble_stone.core import console_keys
from nimble_stone.core.errors import (
    HostKeyChanged,
    LoginRefused,
    RemoteFailed,
    RemoteTimeout,
    Unreachable,
)
from nimble_stone.reach.policy import DialPolicy

MAX_OUTPUT = 8 << 20
OPENINGS = 3
"""Connections on which a command is begun, where the one before was gone already."""
REFUSED_S, PAUSE_S = 15.0, 0.25
"""How long a server is asked for a session that it refuses, and how often."""
CHANNELS = 6
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


class Ssh:
    """Connections by target. Close with `close`."""

    def __init__(self, policy: DialPolicy, pins: Pins) -> None:
        self._policy, self._pins = policy, pins
        self._open: dict[tuple[str, ...], asyncssh.SSHClientConnection] = {}
        self._locks: dict[tuple[str, ...], asyncio.Lock] = {}
        self._channels: dict[tuple[str, ...], asyncio.Semaphore] = {}

    async def close(self) -> None:
        """Close all connections."""
        for connection in list(self._open.values()):
            connection.abort()
        self._open.clear()

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
        key = _key(target)
        began = time.monotonic()
        async with self._channels.setdefault(key, asyncio.Semaphore(CHANNELS)):
            # how long that may take is not the command's affair
            await self._connection(target)
            try:
                async with asyncio.timeout(limit_s + GRACE_S):
                    process = await self._begun(target, command)
                    return await _converse(process, command, data, began, sent)
            except TimeoutError as error:
                raise RemoteTimeout(
                    f"{target.name} did not finish within {limit_s:g} s: {command[:120]}",
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

    async def _begun(self, target: Target, command: str) -> asyncssh.SSHClientProcess[bytes]:
        """The command, begun. Until then nothing has happened on the other side, so it is tried
        again: on a new connection where the far end of a kept one is gone (its machine was made
        again), or a little later where it takes no further session beside those that are open.
        Raises Unreachable when it takes none for long.
        """
        end, dialled = time.monotonic() + REFUSED_S, 0
        while True:
            connection = await self._connection(target)
            try:
                return await connection.create_process(command, encoding=None)
            except asyncssh.ChannelOpenError as error:
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

    async def _connection(self, target: Target) -> asyncssh.SSHClientConnection:
        key = _key(target)
        async with self._locks.setdefault(key, asyncio.Lock()):
            known = self._open.get(key)
            if known is not None and not known.is_closed():
                return known
            self._open[key] = await self._connect(target)
            return self._open[key]

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
                " host was reinstalled, or the connection is intercepted",
                target=target.name,
                operation="connect",
                hint=(
                    "Compare the fingerprint on the host's console. Unpin the old key on the estate"
                    " page only if it matches."
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
        out, err = await asyncio.gather(
            _capped(process.stdout, command), _capped(process.stderr, command)
        )
        await feeding
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
                f"a command answered with more than {MAX_OUTPUT >> 20} MiB: {command[:120]}",
                operation=command,
            )
        pieces.append(piece)
    return b"".join(pieces)


def _key(target: Target) -> tuple[str, ...]:
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
