"""SSH servers that nobody here wrote, behind a relay of ours."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from pathlib import Path


def sshd(config: Path) -> list[str]:
    """OpenSSH's, for one connection."""
    return ["/usr/sbin/sshd", "-i", "-f", str(config)]


class Relay:
    """Passes bytes on to an SSH server, one for each connection; `restart` makes it
    forget all it knew, as a machine does that is made again: nobody is told, and who speaks on
    an old connection is reset. `power_off` is silence: what is said comes to nothing, on all
    connections that there are, and on new ones until `power_on`.
    """

    def __init__(self, command: Sequence[str]) -> None:
        """`command`: a server that serves one connection, on its input and output."""
        self.command = command
        self.life = 1
        self.begun = 0
        self.off = False
        self.silent = 0
        """Connections that get no answer any more: so many of those that were begun."""
        self.servers: list[asyncio.subprocess.Process] = []
        self.tasks: list[asyncio.Task[None]] = []

    def restart(self) -> None:
        self.life += 1
        for server in self.servers:
            server.kill()

    def power_off(self) -> None:
        self.off, self.silent = True, self.begun

    def power_on(self) -> None:
        self.off, self.silent = False, self.begun

    async def take(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        life = self.life
        self.begun += 1
        number = self.begun
        own = asyncio.current_task()
        assert own is not None
        self.tasks.append(own)
        server = await asyncio.create_subprocess_exec(*self.command, stdin=-1, stdout=-1)
        self.servers.append(server)
        assert server.stdin is not None
        assert server.stdout is not None
        answers = asyncio.create_task(self._answers(server.stdout, writer, life, number))
        while piece := await reader.read(65536):
            if self.life != life:
                break
            if self._hears(number):
                server.stdin.write(piece)
        answers.cancel()
        writer.transport.abort()
        # it ends when nobody speaks any more, with the process that it made for the account
        server.stdin.close()
        await server.wait()

    def _hears(self, number: int) -> bool:
        return number > self.silent and not self.off

    async def _answers(
        self, source: asyncio.StreamReader, writer: asyncio.StreamWriter, life: int, number: int
    ) -> None:
        while piece := await source.read(65536):
            if self._hears(number):
                writer.write(piece)
        if self.life == life:
            writer.close()


async def listening(port: int) -> None:
    """Until somebody takes connections on a port of this machine."""
    for _ in range(200):
        try:
            _, writer = await asyncio.open_connection("127.0.0.1", port)
        except OSError:
            await asyncio.sleep(0.05)
        else:
            writer.close()
            return
    raise AssertionError(f"nobody listens on port {port}")
