"""A node: its own HTTP interface and SSH login, as its kit says."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import Any

from nimble_stone.core import shell_words
from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.redaction import shortened
from nimble_stone.hosts.api import Recorder, no_record
from nimble_stone.reach import Answer, Credential, Reach, Target

MOST_TOLD = 256 << 10
"""Characters of a command's answer that are looked at."""


@dataclass(frozen=True)
class NodeAccess:
    """Where a node is and how to log in to it."""

    name: str
    address: str
    port: int
    user: str
    password: str = field(repr=False)


class NodeDoor:
    """Requests to one node."""

    def __init__(self, reach: Reach, access: NodeAccess, record: Recorder = no_record) -> None:
        self._reach, self._access, self._record = reach, access, record

    async def port_open(self, port: int) -> bool:
        """Whether a TCP port accepts connections."""
        found = await self._reach.port_open(self._access.address, port)
        self._record(
            self._access.name,
            f"connect {self._access.address}:{port}",
            "open" if found else "no answer",
            0 if found else 1,
            0.0,
        )
        return found

    async def script(
        self, command: str, data: bytes = b"", limit_s: float = 30, *, quiet: bool = False
    ) -> Answer:
        """What a command answers, whatever its status; `data` is its input, and not recorded. With
        `quiet` neither is what it prints, but its size.
        """
        return await self._run(command, limit_s, data, quiet=quiet)

    async def lines(self, command: str) -> list[str]:
        """The lines that a command on the node prints. Raises RemoteFailed when it fails."""
        answer = await self._run(command)
        if answer.status != 0:
            raise self._refused(command, f"does not carry out “{shortened(command, 80)}”", answer)
        return answer.text.strip()[:MOST_TOLD].splitlines()

    async def told(self, command: str) -> dict[str, Any]:
        """The JSON object that a command on the node prints, whatever its status. Raises
        RemoteFailed when it prints none.
        """
        answer = await self._run(command)
        try:
            found = json.loads(answer.text[:MOST_TOLD])
        except ValueError:
            found = None
        if not isinstance(found, dict):
            raise self._refused(
                command, f"answers “{shortened(command, 80)}” with no JSON object", answer
            )
        return found

    async def ping_from(self, address: str) -> bool:
        """Whether the node itself reaches an address: one echo request sent from it by SSH."""
        answer = await self._run(f"ping -c 1 -W 2 {shell_words.word(address)}")
        return answer.status == 0

    async def _run(
        self, command: str, limit_s: float = 30, data: bytes = b"", *, quiet: bool = False
    ) -> Answer:
        """A command by SSH, recorded."""
        a = self._access
        target = Target(a.name, a.address, 22, Credential(a.user, a.password))
        answer = await self._reach.ssh.run(target, command, data=data, limit_s=limit_s)
        said = f"({len(answer.out)} bytes)" if quiet else answer.text
        told = "\n".join(filter(None, (said, answer.err)))
        self._record(a.name, command, told, answer.status, answer.seconds)
        return answer

    def _refused(self, command: str, what: str, answer: Answer) -> RemoteFailed:
        name = self._access.name
        return RemoteFailed(
            f"{name} {what}: {shortened((answer.err or answer.text).strip(), 200)}",
            target=name,
            operation=command,
            hint="See the node's console.",
        )
