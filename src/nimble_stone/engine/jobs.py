"""What a driver carries out: a rollout of a plan, or groundwork on hosts. The driver knows the
order and the journal, the job the steps.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Protocol

from nimble_stone.core.step import Step
from nimble_stone.hosts.api import HostDriver, Recorder


class Context(Protocol):
    """A step about to be carried out. `acted`: the act of this attempt has returned; `said`: what
    was last told of a wait.
    """

    acted: bool
    said: str

    @property
    def who(self) -> str: ...

    def tell(self, **values: Any) -> None: ...


class Kind(Protocol):
    """What every kind of step can do."""

    async def observe(self, c: Any) -> dict[str, Any] | None: ...
    async def act(self, c: Any) -> None: ...
    async def undo(self, c: Any) -> str: ...


class Job(Protocol):
    """One run's work. `stages`: in how many rounds it is taken back."""

    @property
    def steps(self) -> Mapping[str, Step]: ...
    @property
    def stages(self) -> int: ...

    def kind(self, step: Step) -> Kind: ...
    def stays(self, step: Step) -> bool:
        """Whether a rollback leaves it as it is."""

    def asks(self, step: Step) -> bool:
        """Whether one can ask if what the step made is still there."""

    async def stands(self, step: Step, context: Any) -> bool:
        """Whether it is."""

    def polled(self, step: Step) -> bool: ...
    def on_machine(self, step: Step) -> bool: ...
    def stage(self, step: Step) -> int: ...
    def alone(self, step: Step) -> bool:
        """Whether it is taken back while no other step is, on whatever host."""

    def context(self, step: Step, host: HostDriver, record: Recorder) -> Context: ...
    async def finish(self) -> tuple[bool, dict[str, Any]]: ...
    async def undoing(self) -> None:
        """What comes before anything is taken back."""

    async def undone(self) -> None: ...
