"""Groundwork as named operations: an order that cannot be cannot be written."""

from __future__ import annotations

import pytest

from nimble_stone.core import preparation as prep
from nimble_stone.hosts.kvm.actions import work
from nimble_stone.hosts.work import Command, Op, Operation, Work

FORMAT = Operation(Op.FORMAT_DISK, (Command("format"),), (Command("wipe"),))
POOL = Operation(
    Op.DEFINE_POOL, (Command("define"), Command("start")), (Command("stop"), Command("undefine"))
)
BRIDGE = Operation(Op.BUILD_BRIDGE, (Command("up"),), (Command("down"),))
NETWORK = Operation(Op.DEFINE_NETWORK, (Command("net"),), (Command("no net"),))


def texts(commands: tuple[Command, ...]) -> list[str]:
    return [command.text for command in commands]


def test_operations_are_done_in_order_and_taken_back_in_the_opposite_one() -> None:
    both = Work((FORMAT, POOL))
    assert texts(both.act()) == ["format", "define", "start"]
    assert texts(both.undo()) == ["stop", "undefine", "wipe"]
    assert texts(both.act(without={Op.FORMAT_DISK})) == ["define", "start"]
    assert texts(both.undo([Op.FORMAT_DISK])) == ["wipe"]
    assert texts(both.undo([])) == []


@pytest.mark.parametrize("order", [(POOL, FORMAT), (NETWORK, BRIDGE), (POOL, POOL)])
def test_an_impossible_order_cannot_be_written(order: tuple[Operation, ...]) -> None:
    with pytest.raises(ValueError, match="before|twice"):
        Work(order)


def test_a_disk_is_formatted_by_the_operation_that_says_so_and_by_no_other() -> None:
    made = work(prep.DiskStore(host="gannet", name="deep", device="/dev/vdb"), "r1")
    by_name = {operation.name: operation for operation in made.operations}
    assert set(by_name) == {Op.FORMAT_DISK, Op.DEFINE_POOL}
    assert [command for command in made.act() if "mkfs" in command.text] == [
        *by_name[Op.FORMAT_DISK].act
    ]
    assert not any("mkfs" in command.text for command in made.act(without={Op.FORMAT_DISK}))
    assert all("wipefs" not in command.text for command in by_name[Op.DEFINE_POOL].undo)
