"""Reading many hosts at once: one that hangs or speaks another language delays and disturbs
nobody.
"""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Iterator
from pathlib import Path

import pytest

from nimble_stone.core.estate import EstateFile
from nimble_stone.engine import survey
from nimble_stone.engine.world import World
from nimble_stone.lab import demo
from nimble_stone.server.app import open_world
from nimble_stone.store import records
from tests.contract.contract import keep
from tests.support.processes import LabProcess


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LabProcess]:
    process = LabProcess(tmp_path_factory.mktemp("survey") / "lab", more_hosts=40)
    yield process
    process.stop()


@pytest.fixture
async def world(lab: LabProcess, tmp_path: Path) -> AsyncIterator[World]:
    (tmp_path / "dial.yaml").write_text(lab.dial())
    found = open_world(tmp_path, 0.01)
    await found.keep_secret(demo.CREDENTIAL, demo.PASSWORD)
    await found.store.write(
        records.merge_estate,
        EstateFile(
            hosts=demo.estate_file(lab.plan).hosts, networks=demo.estate_file(lab.plan).networks
        ),
    )
    yield found
    await found.reach.close()
    found.store.close()


async def read(world: World) -> dict[str, str]:
    estate = await world.store.read(records.load_estate)
    return {
        name: facts.trouble
        for name, facts in (await survey.read_hosts(world, estate.hosts, estate.facts)).items()
    }


async def test_a_host_that_hangs_in_its_answer_is_given_up_and_delays_nobody(
    lab: LabProcess, world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert not any((await read(world)).values())
    monkeypatch.setattr(survey, "READ_S", 3.0)
    lab.turn("fulmar", hang=True)
    try:
        began = time.monotonic()
        found = await read(world)
        assert time.monotonic() - began < 20
        assert {name for name, trouble in found.items() if trouble} == {"fulmar"}
        assert "within 3 s" in found["fulmar"]
        kept = (await world.store.read(records.load_estate)).facts["fulmar"]
        # the last that is known
        assert kept.memory_bytes == 256 << 30
        assert kept.tried_at > kept.read_at
    finally:
        lab.turn("fulmar", hang=False)
    monkeypatch.setattr(survey, "READ_S", 90.0)
    assert not any((await read(world)).values())


async def test_a_host_in_another_language_keeps_the_contract(lab: LabProcess, world: World) -> None:
    lab.turn("gannet", locale="de")
    try:
        await keep(
            await world.kvm(await world.host("gannet")), datastore="gannet-local", network="survey"
        )
    finally:
        lab.turn("gannet", locale="")


async def test_full_packets_are_tried_round_the_bay_and_a_narrow_switch_is_found(
    lab: LabProcess, world: World
) -> None:
    # peers' addresses are known from now on
    await read(world)
    lab.turn("gannet", narrow=1400)
    try:
        await read(world)
    finally:
        lab.turn("gannet", narrow=0)
    facts = (await world.store.read(records.load_estate)).facts
    assert [(p.network, p.peer, p.mtu, p.passes) for p in facts["gannet"].paths] == [
        ("management", "petrel", 1500, False)
    ]
    assert [(p.network, p.peer, p.mtu, p.passes) for p in facts["fulmar"].paths] == [
        ("management", "gannet", 1500, False),
        ("storage", "gannet", 1500, False),
    ]
    assert [(p.network, p.peer, p.passes) for p in facts["tern"].paths] == [
        ("management", "whimbrel", True)
    ]
    assert (
        survey.next_of((await world.store.read(records.load_estate)), await world.host("skua")).name
        == "fulmar"
    )  # type: ignore[union-attr]
    await read(world)
    facts = (await world.store.read(records.load_estate)).facts
    storage = {
        name: {p.network: p.passes for p in facts[name].paths}
        for name in ("gannet", "fulmar", "skua")
    }
    assert storage == {
        "gannet": {"management": True},
        "fulmar": {"management": True, "storage": True},
        "skua": {"management": True, "storage": False},
    }


async def test_what_a_hand_changed_is_seen_at_the_next_reading(
    lab: LabProcess, world: World
) -> None:
    await read(world)
    host = await world.kvm(await world.host("skua"))
    await host.create_volume("skua-local", "ns-changes", "qcow2", 1 << 20)
    answer = await host.answer(
        "LC_ALL=C timeout -k 2 10 virsh -q -c qemu:///system net-destroy storage"
    )
    assert answer.status == 0
    await read(world)
    facts = (await world.store.read(records.load_estate)).facts["skua"]
    assert {(c.what, c.was, c.now) for c in facts.changes} == {
        ("network storage", "MTU 9000", "not started")
    }
    since = facts.changed_since
    await read(world)
    again = (await world.store.read(records.load_estate)).facts["skua"]
    # what changed stays told until something else does
    assert (again.changes, again.changed_since) == (facts.changes, since)
    await host.answer("LC_ALL=C timeout -k 2 10 virsh -q -c qemu:///system net-start storage")
    await host.delete_volume("skua-local", "ns-changes")
