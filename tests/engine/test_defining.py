"""A VM that was defined, and cut off before it was told to start with its host."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any, cast

import pytest

from nimble_stone.core.kit.roles import VmOptions
from nimble_stone.engine.steps.vms import Define


class _Vms:
    def __init__(self, autostart: bool) -> None:
        self.autostart = autostart

    async def find(self, _: str) -> SimpleNamespace:
        return SimpleNamespace(uuid="u-1", is_of=lambda run: run == "r1")

    async def state(self, _: str) -> SimpleNamespace:
        return SimpleNamespace(autostart=self.autostart)


@pytest.mark.parametrize(
    ("wanted", "is_set", "done"),
    [(True, False, False), (True, True, True), (False, False, True)],
)
async def test_a_vm_is_defined_when_it_starts_with_its_host(
    wanted: bool, is_set: bool, done: bool
) -> None:
    role = SimpleNamespace(vm=VmOptions(autostart=wanted))
    kit = SimpleNamespace(role=lambda _: role)
    context: Any = SimpleNamespace(
        node=SimpleNamespace(name="n", role="lead"),
        run=SimpleNamespace(id="r1", sheet=SimpleNamespace(kit=kit)),
        maker="r1",
        host=SimpleNamespace(name="gannet", vms=_Vms(is_set)),
    )
    assert bool(await Define().observe(cast("Any", context))) is done
