"""How a stand-in host is logged in to: its SSH server's side, with the host's knobs."""

from __future__ import annotations

import asyncio
import contextlib
import shlex
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import asyncssh

from nimble_stone.lab.hypervisor.state import LabHost, Volumes
from nimble_stone.lab.hypervisor.virsh import Guests, Shell
from nimble_stone.lab.scenario.demo import PASSWORD
from nimble_stone.lab.shell import several
from nimble_stone.lab.shell.linux import Out

ACCOUNTS = {"root": "root", "deploy": "deploy", "guest": "guest"}
"""Who may log in, and as whom its commands run: root; one that may use the hypervisor but not the
machine; one that may do neither.
"""


class Throttled:
    """A command's standard input at the host's rate; can be cut after so many bytes."""

    def __init__(
        self, reader: asyncssh.SSHReader[bytes], host: LabHost, speed: float, cut: Any
    ) -> None:
        self._reader, self._host, self._speed, self._cut, self._read = reader, host, speed, cut, 0

    async def read(self, size: int = -1) -> bytes:
        """The next bytes, b'' at the end."""
        data = await self._reader.read(size)
        self._read += len(data)
        knobs = self._host.knobs
        if 0 < knobs.cut_after < self._read:
            knobs.cut_after = 0
            self._host.save()
            self._cut()
            raise ConnectionError("cut")
        if knobs.rate and len(data) > 4096:
            await asyncio.sleep(len(data) / knobs.rate / self._speed)
        return data


class _Login(asyncssh.SSHServer):
    def __init__(self, door: HostDoor) -> None:
        self._door, self._host = door, door.host

    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return not any(
            "PasswordAuthentication no" in text
            for path, text in self._host.ground.files.items()
            if "sshd_config.d" in path
        )

    def public_key_auth_supported(self) -> bool:
        return True

    def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
        """Keys of the account's own file."""
        known = (
            self._host.ground.files.get("/root/.ssh/authorized_keys", "")
            if username == "root"
            else ""
        )
        shown = key.export_public_key().decode().split()[:2]
        return not self._host.knobs.login_refused and any(
            line.split()[:2] == shown for line in known.splitlines()
        )

    def validate_password(self, username: str, password: str) -> bool:
        return (
            not self._host.knobs.login_refused
            and username in self._door.accounts
            and password == self._door.password
        )


class HostDoor:
    """One host's logins and commands. `peers` finds a host of the lab by any of its addresses."""

    def __init__(
        self,
        host: LabHost,
        volumes: Volumes,
        guests: Guests,
        speed: Callable[[], float],
        peers: Callable[[str], LabHost | None],
        password: str = PASSWORD,
        accounts: Mapping[str, str] = ACCOUNTS,
    ) -> None:
        self.host, self.password, self.accounts = host, password, accounts
        self._speed, self._guests = speed, guests
        self._connections: set[Any] = set()
        self._shells = {
            name: Shell(host, volumes, guests, speed, peers, account)
            for name, account in accounts.items()
        }

    def login(self) -> asyncssh.SSHServer:
        """Who is let in."""
        return _Login(self)

    async def process(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        """Carry out a command."""
        connection = process.channel.get_connection()
        shell = self._shells[str(connection.get_extra_info("username"))]
        self._connections.add(connection)
        if self.host.knobs.slow_s:
            await asyncio.sleep(self.host.knobs.slow_s)
        try:
            words = shlex.split(process.command or "")
            stdin = Throttled(process.stdin, self.host, self._speed(), connection.abort)
            answer = await self._several(process.command or "")
            if answer is None:
                answer = await shell.run(words, stdin)
        except ConnectionError:
            return
        except (ValueError, LookupError) as error:
            answer = Out(2, b"", f"bash: {error}")
        with contextlib.suppress(BrokenPipeError, OSError):
            process.stdout.write(answer.out)
            process.stderr.write(answer.err.encode() + b"\n" if answer.err else b"")
            process.exit(answer.status)

    async def _several(self, command: str) -> Out | None:
        if not several.is_several(command):
            return None
        marks = await self._guests.several(command)
        return Out(0, "".join(f"{mark}\n" for mark in marks).encode())

    def drop(self) -> None:
        """Cut all connections."""
        for connection in list(self._connections):
            connection.abort()
        self._connections.clear()


def host_key(path: Path) -> asyncssh.SSHKey:
    """The key of a host, made when there is none yet."""
    if not path.exists():
        asyncssh.generate_private_key("ssh-ed25519").write_private_key(str(path))
        path.chmod(0o600)
    return asyncssh.read_private_key(str(path))
