"""Reading many hosts at once: one that hangs or speaks another language delays and disturbs
nobody.
"""

from __future__ import annotations

import math
import time
from collections.abc import AsyncIterator, Iterator
from pathlib import Path

import pytest

from nimble_stone.core.estate import EstateFile
from nimble_stone.engine import survey
from nimble_stone.hosts.work import Command
from nimble_stone.lab.scenario import demo
from nimble_stone.ports.ports import Ports
from nimble_stone.server.app import open_application
from nimble_stone.store import records
from tests.contract.contract import keep
from tests.support.processes import LabProcess


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LabProcess]:
    process = LabProcess(tmp_path_factory.mktemp("survey") / "lab", more_hosts=40)
    yield process
    process.stop()


@pytest.fixture
async def ports(lab: LabProcess, tmp_path: Path) -> AsyncIterator[Ports]:
    (tmp_path / "dial.yaml").write_text(lab.dial())
    found = open_application(tmp_path, 0.01)
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


async def read(ports: Ports) -> dict[str, str]:
    estate = await ports.store.read(records.load_estate)
    return {
        name: facts.trouble
        for name, facts in (await survey.read_hosts(ports, estate.hosts, estate.facts)).items()
    }


async def test_a_host_that_hangs_in_its_answer_is_given_up_and_delays_nobody(
    lab: LabProcess, ports: Ports, monkeypatch: pytest.MonkeyPatch
) -> None:
    began = time.monotonic()
    assert not any((await read(ports)).values())
    # a slow machine takes longer for those that do answer
    limit = math.ceil(max(3.0, 4 * (time.monotonic() - began)))
    monkeypatch.setattr(survey, "READ_S", float(limit))
    lab.turn("fulmar", hang=True)
    try:
        began = time.monotonic()
        found = await read(ports)
        assert time.monotonic() - began < 3 * limit + 15
        assert {name for name, trouble in found.items() if trouble} == {"fulmar"}
        assert f"within {limit} s" in found["fulmar"]
        kept = (await ports.store.read(records.load_estate)).facts["fulmar"]
        # the last that is known
        assert kept.memory_bytes == 256 << 30
        assert kept.tried_at > kept.read_at
    finally:
        lab.turn("fulmar", hang=False)
    monkeypatch.setattr(survey, "READ_S", 90.0)
    assert not any((await read(ports)).values())


async def test_a_host_in_another_language_keeps_the_contract(lab: LabProcess, ports: Ports) -> None:
    lab.turn("gannet", locale="de")
    try:
        await keep(
            await ports.driver(await ports.host("gannet")),
            address="10.44.1.11",
            datastore="gannet-local",
            network="survey",
        )
    finally:
        lab.turn("gannet", locale="")


async def test_full_packets_are_tried_round_the_bay_and_a_narrow_switch_is_found(
    lab: LabProcess, ports: Ports
) -> None:
    # peers' addresses are known from now on
    await read(ports)
    lab.turn("gannet", narrow=1400)
    try:
        await read(ports)
    finally:
        lab.turn("gannet", narrow=0)
    facts = (await ports.store.read(records.load_estate)).facts
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
        survey.next_of((await ports.store.read(records.load_estate)), await ports.host("skua")).name
        == "fulmar"
    )  # type: ignore[union-attr]
    await read(ports)
    facts = (await ports.store.read(records.load_estate)).facts
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
    lab: LabProcess, ports: Ports
) -> None:
    await read(ports)
    host = await ports.driver(await ports.host("skua"))
    await host.storage.create_disk("skua-local", "ns-changes", 1 << 20)
    stop = "LC_ALL=C timeout -k 2 10 virsh -q -c qemu:///system net-destroy storage"
    await host.preparation.send(Command(stop))
    await read(ports)
    facts = (await ports.store.read(records.load_estate)).facts["skua"]
    assert {(c.what, c.was, c.now) for c in facts.changes} == {
        ("network storage", "MTU 9000", "not started")
    }
    since = facts.changed_since
    await read(ports)
    again = (await ports.store.read(records.load_estate)).facts["skua"]
    # what changed stays told until something else does
    assert (again.changes, again.changed_since) == (facts.changes, since)
    await host.preparation.send(Command(stop.replace("destroy", "start")))
    await host.storage.delete("skua-local", "ns-changes")
