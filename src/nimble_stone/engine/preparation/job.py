"""The run of host preparation."""

from __future__ import annotations

from typing import Any

from nimble_stone.core import preparation as prep
from nimble_stone.core.estate import Facts, MachineFacts, StoreCare
from nimble_stone.core.estate_rules.ground import place_of
from nimble_stone.core.step import Step
from nimble_stone.engine import machines, survey
from nimble_stone.engine.jobs import Kind
from nimble_stone.engine.preparation import (
    access,
    datastores,
    disks,
    inspecting,
    names,
    networks,
    vms,
)
from nimble_stone.engine.preparation.context import Context
from nimble_stone.engine.preparation.sequence import ORDER, action_of, kind_of, steps_in
from nimble_stone.hosts.api import HostDriver, Recorder
from nimble_stone.ports import Ports
from nimble_stone.store import records
from nimble_stone.store.runs import RunRow

KINDS: dict[str, Kind] = {
    **access.KINDS,
    **names.KINDS,
    **networks.KINDS,
    **disks.KINDS,
    **vms.KINDS,
    **datastores.KINDS,
    **inspecting.KINDS,
}


POLLED = ("carry-network", *inspecting.KINDS)


class Preparation:
    """The job. Afterwards the hosts are read again, so that what was wrong is seen to be gone."""

    stages = 6

    def __init__(self, ports: Ports, row: RunRow) -> None:
        self.ports, self.run_id = ports, row.id
        self.steps = steps_in(row)
        self._work = prep.Preparation.model_validate(row.doc["work"])

    def kind(self, step: Step) -> Kind:
        """What carries the step out."""
        return KINDS[kind_of(step)]

    def stays(self, step: Step) -> bool:
        """All can be taken back."""
        return False

    def asks(self, step: Step) -> bool:
        """A failed action looks at its host by itself."""
        return False

    async def stands(self, step: Step, context: Context) -> bool:
        """Nobody asks."""
        return True

    def polled(self, step: Step) -> bool:
        """A network comes up a little after it was asked for; so does power, and a controller that
        restarts.
        """
        return kind_of(step) in POLLED

    def on_machine(self, step: Step) -> bool:
        """Bare machines are spoken to through their controllers."""
        return prep.on_metal(action_of(step))

    def stage(self, step: Step) -> int:
        """Taken back in the opposite order."""
        return 5 - ORDER[action_of(step).kind]

    def alone(self, step: Step) -> bool:
        """Hosts do not depend on one another."""
        return False

    def context(self, step: Step, host: HostDriver, record: Recorder) -> Context:
        """What the step works with."""
        return Context(self.ports, self.run_id, step, host, record)

    async def _read(self) -> dict[str, Facts]:
        estate = await self.ports.store.read(records.load_estate)
        names = {step.host for step in self.steps.values()}
        return await survey.read_hosts(
            self.ports, [host for host in estate.hosts if host.name in names], estate.facts
        )

    async def _read_machines(self) -> dict[str, MachineFacts]:
        estate = await self.ports.store.read(records.load_estate)
        names = {step.host for step in self.steps.values()}
        chosen = [machine for machine in estate.machines if machine.name in names]
        return await machines.read(self.ports, chosen, estate.machine_facts)

    async def finish(self) -> tuple[bool, dict[str, Any]]:
        """Read the hosts again; keep what was decided about new datastores."""
        facts = await self._read()
        if self._work.care is not None:
            for action in self._work.actions:
                store = (
                    facts[action.host].datastore(action.name)
                    if isinstance(action, prep.FolderStore | prep.DiskStore | prep.NfsStore)
                    else None
                )
                if store is not None:
                    await self.ports.store.write(
                        records.put_care,
                        StoreCare(
                            place=place_of(action.host, store), **self._work.care.model_dump()
                        ),
                    )
        troubles = [found.trouble for found in facts.values()]
        troubles += [found.trouble for found in (await self._read_machines()).values()]
        unread = sum(bool(trouble) for trouble in troubles)
        return not unread, {"passed": len(troubles) - unread, "failed": unread}

    async def undoing(self) -> None:
        """Nothing."""

    async def undone(self) -> None:
        """What hosts and machines are now."""
        await self._read()
        await self._read_machines()
