"""A conversation with one host over SSH: what is sent and what comes back, recorded."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable

from nimble_stone.core.errors import RemoteFailed, StoneError
from nimble_stone.hosts.api import Recorder
from nimble_stone.hosts.kvm import commands, reading
from nimble_stone.reach import Answer, Reach, Target


class Session:
    """Commands to one host. virsh's exit code says nothing, so its words are read."""

    def __init__(self, reach: Reach, target: Target, record: Recorder) -> None:
        self._reach, self._target, self.record = reach, target, record

    @property
    def name(self) -> str:
        """The host's name."""
        return self._target.name

    @property
    def is_root(self) -> bool:
        """Whether the account is the administrator's."""
        return self._target.credential.user == "root"

    async def run(
        self, command: str, data: bytes = b"", *, limit_s: float = 35.0, shown: str = ""
    ) -> Answer:
        try:
            answer = await self._reach.ssh.run(self._target, command, data=data, limit_s=limit_s)
        except StoneError as error:
            self.record(
                self.name, command + (f" <<'END'\n{shown}END" if shown else ""), str(error), -1, 0.0
            )
            raise
        self.record(
            self.name,
            command + (f" <<'END'\n{shown}END" if shown else ""),
            "\n".join(
                part
                for part in (
                    answer.text if b"\0" not in answer.out[:64] else f"({len(answer.out)} bytes)",
                    answer.err,
                )
                if part
            ),
            answer.status,
            answer.seconds,
        )
        return answer

    async def virsh(self, *words: str, data: str = "", seconds: int = 30) -> str:
        """Answer text of a virsh command. Raises RemoteFailed with the host's own words."""
        answer = await self.run(
            commands.virsh(*words, seconds=seconds), data.encode(), limit_s=seconds + 5, shown=data
        )
        if answer.status != 0:
            raise self.failure(" ".join(words), answer)
        return answer.text

    def failure(self, what: str, answer: Answer) -> RemoteFailed:
        return self._failure(what, answer.status, answer.err)

    def _failure(self, what: str, status: int, err: str) -> RemoteFailed:
        words = " ".join(
            line.removeprefix("error:").strip() for line in err.splitlines() if line.strip()
        )[:400]
        if status in (124, 137):
            words = "the command ran into its time limit on the host"
        if status == 127:
            words = "virsh is not installed, or not in the path of this account"
        hint = next(
            (text for key, text in _HINTS.items() if key in words),
            "See the transcript, fix the host, then retry.",
        )
        return RemoteFailed(
            f"{self.name}: {what.split(' /dev/stdin')[0]}: {words or f'status {status}'}",
            target=self.name,
            operation=what,
            hint=hint,
        )

    async def maybe(self, *words: str) -> str | None:
        """Like _virsh, but None when the thing named does not exist."""
        answer = await self.run(commands.virsh(*words))
        return self._known(words, answer.status, answer.text, answer.err)

    async def several(self, *questions: tuple[str, ...]) -> list[str | None]:
        """The answers to several virsh commands, in one conversation: as `maybe`."""
        lines = [commands.virsh_limited(*words) for words in questions]
        found = await self.script(lines, SCRIPT_S)
        return [
            self._known(words, said.status, said.out, said.err)
            for words, said in zip(questions, found, strict=True)
        ]

    def _known(self, words: tuple[str, ...], status: int, out: str, err: str) -> str | None:
        if status == 0:
            return out
        if any(text in err for text in _MISSING):
            return None
        raise self._failure(" ".join(words), status, err)

    async def script(self, lines: list[str], limit_s: int) -> list[reading.Said]:
        """Several commands in one conversation."""
        if not lines:
            return []
        text = reading.script(lines)
        answer = await self.run(
            commands.script(limit_s), text.encode(), limit_s=limit_s + 5, shown=text
        )
        return reading.split(answer.out.decode("utf-8", "replace"), answer.err, len(lines))

    async def stream(
        self,
        command: str,
        pieces: AsyncIterator[bytes],
        *,
        limit_s: int,
        sent: Callable[[int], None] | None = None,
    ) -> Answer:
        """A command that is fed; what is fed is not recorded."""
        try:
            answer = await self._reach.ssh.stream(
                self._target, command, pieces, limit_s=limit_s, sent=sent
            )
        except StoneError as error:
            self.record(self.name, command, str(error), -1, 0.0)
            raise
        self.record(self.name, command, answer.err or answer.text, answer.status, answer.seconds)
        return answer

    async def fetch(self, command: str, *, limit_s: int) -> AsyncIterator[bytes]:
        """What a command prints, piece by piece; only that it was sent is recorded."""
        total = 0
        try:
            async for piece in self._reach.ssh.fetch(self._target, command, limit_s=limit_s):
                total += len(piece)
                yield piece
        except StoneError as error:
            self.record(self.name, command, str(error), -1, 0.0)
            raise
        self.record(self.name, command, f"({total} bytes)", 0, 0.0)

    async def quietly(self, command: str, limit_s: int) -> Answer:
        """A question that is asked again and again, left out of the record."""
        return await self._reach.ssh.run(self._target, command, limit_s=limit_s)


SCRIPT_S = 60
"""Seconds for several questions in one conversation."""
_MISSING = (
    "not found",
    "failed to get domain",
    "failed to get vol",
    "no domain with",
    "failed to get pool",
)
"""What virsh says of a thing that does not exist."""
_HINTS = {
    "No space left on device": "Free space on the datastore or choose another, then retry.",
    "cannot allocate": "Free space on the datastore or choose another, then retry.",
    "Cannot allocate memory": (
        "The host has too little memory free; stop something or choose another host."
    ),
    "Cannot get interface MTU": (
        "The network's bridge is missing on this host; fix it, then retry."
    ),
    "failed to connect to the hypervisor": "Start libvirtd on the host, then retry.",
    "already exists": ("The name is in use. Rename the node, or remove the other object."),
    "time limit": "See whether the host is overloaded, then retry.",
    "not installed": "Install libvirt's client on the host, or use another account.",
}
