"""What a step of host preparation works with, and what its kinds have in common."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict
from nimble_stone.core.estate import Host
from nimble_stone.core.step import Step
from nimble_stone.engine.preparation.sequence import action_of, before_of
from nimble_stone.hosts.api import HostDriver, Recorder
from nimble_stone.hosts.work import Command, Work
from nimble_stone.ports import Ports
from nimble_stone.store import runs

Found = dict[str, Any]


@dataclass
class Context:
    """A step about to be carried out."""

    ports: Ports
    run: str
    step: Step
    host: HostDriver
    record: Recorder
    acted: bool = False
    answer: Found = field(default_factory=dict)
    said: str = ""

    @property
    def who(self) -> str:
        """Whom it is about."""
        return self.step.host

    @property
    def action(self) -> prep.Action:
        """What is asked for."""
        return action_of(self.step)

    @property
    def work(self) -> Work:
        """The commands."""
        return self.host.preparation.work(self.action, self.run, before_of(self.step))

    def tell(self, **values: Any) -> None:
        """Passing progress."""
        self.ports.hub.tell(self.run, self.step.key, **values)

    def uuid(self, kind: str, name: str) -> str:
        """The UUID that marks a thing as this run's."""
        return self.host.preparation.uuid(self.run, kind, name)

    async def estate_host(self) -> Host:
        """The host as the estate has it now."""
        return await self.ports.host(self.step.host)


class Plain:
    """Acting and taking back by the commands alone. What is not of this run is neither written over
    nor taken away: a step that never acted
    found things as they were to be, and what it made bears its mark."""

    async def act(self, c: Context) -> None:
        """Send the commands, one after the other. Raises Conflict when a foreign file, or
        of another run, is in the way.
        """
        for path in await c.host.preparation.foreign_files(c.work, c.run):
            raise Conflict(
                f"{path} on {c.step.host} was not created by this run; it is left unchanged",
                code="not-ours",
                hint="Roll back the run that made it, or move the file away; then retry.",
            )
        commands = c.work.act()
        for number, command in enumerate(commands):
            c.tell(done=number, total=len(commands))
            await c.host.preparation.send(command)

    async def undo(self, c: Context) -> str:
        """Send those that take it back, if this run did it."""
        if not await c.ports.store.read(runs.acted, c.run, c.step.key):
            return f"{c.step.label}: it was so before and stays"
        if not await self.ours(c):
            return f"{c.step.label}: nothing created by this run was found; nothing was changed"
        if why := await self.stays(c):
            raise Conflict(
                f"{c.step.host}: {c.step.label}: {why}",
                code="in-use",
                hint="Free it, then roll the run back again.",
            )
        for command in await self.undoing(c):
            await c.host.preparation.send(command)
        return f"{c.step.label}: rolled back"

    async def ours(self, c: Context) -> bool:
        """Whether what is there bears this run's mark: the files by their first line; other kinds
        look at theirs.
        """
        if not c.work.files:
            return True
        return await c.host.preparation.own_files(c.work, c.run)

    async def stays(self, c: Context) -> str:
        """Why it may not be taken back, '' when it may."""
        return ""

    async def undoing(self, c: Context) -> Sequence[Command]:
        """The commands for that."""
        return c.work.undo()
