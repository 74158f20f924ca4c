"""The host driver's contract, kept by the stand-in. tests/hypervisor keeps the same one with a real
host (`contract` below).
"""

from __future__ import annotations

from collections.abc import AsyncIterator
from ipaddress import IPv4Address

import pytest

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import (
    Conflict,
    HostKeyChanged,
    LoginRefused,
    RemoteFailed,
    RemoteTimeout,
    Unreachable,
)
from nimble_stone.hosts.kvm import KvmHost
from nimble_stone.hosts.work import Command
from nimble_stone.lab.scenario import demo
from nimble_stone.reach import Credential, DialPolicy, Reach, Target
from nimble_stone.reach.policy import Mapping
from nimble_stone.reach.ssh import Pins
from tests.contract.contract import keep
from tests.support.processes import LabProcess

pins: dict[str, str] = {}


def reach_of(lab: LabProcess) -> Reach:
    async def get(place: str) -> str | None:
        return pins.get(place)

    async def put(place: str, fingerprint: str) -> None:
        pins[place] = fingerprint

    policy = DialPolicy(
        mapped=(
            Mapping.model_validate({"planned": "10.44.0.0/16", "real": f"127.{lab.octet}.0.0/16"}),
        ),
        low_ports=20000,
        connect_seconds=3,
    )
    return Reach(policy, Pins(get, put))


@pytest.fixture
async def host(lab: LabProcess) -> AsyncIterator[KvmHost]:
    pins.clear()
    reach = reach_of(lab)
    yield KvmHost(reach, Target("gannet", "10.44.1.11", 22, Credential("root", demo.PASSWORD)))
    await reach.close()


async def test_the_stand_in_keeps_the_contract(host: KvmHost) -> None:
    await keep(host, address="10.44.1.11", datastore="gannet-local", network="survey")


async def test_facts_hold_bedrock_shared_datastores_and_networks(host: KvmHost) -> None:
    facts = await host.reading.facts(5.0)
    assert {guest.name for guest in facts.guests} >= {"survey-db", "mirror", "names"}
    assert facts.datastore("kelda-shared") is not None
    assert {store.name: bool(store.shared) for store in facts.datastores} == {
        "kelda-shared": True,
        "gannet-local": False,
    }
    assert [net.name for net in facts.networks] == ["management", "survey", "storage"]
    assert (facts.domain_type, facts.threads, facts.memory_bytes) == ("kvm", 48, 256 << 30)


async def test_kvm_that_is_advertised_but_does_not_work_is_found_out(
    host: KvmHost, lab: LabProcess
) -> None:
    lab.turn("gannet", emulation=True)
    try:
        assert (await host.reading.facts(5.0)).domain_type == "qemu"
    finally:
        lab.turn("gannet", emulation=False)


async def test_kvm_that_is_slower_than_emulation_does_not_count(
    host: KvmHost, lab: LabProcess
) -> None:
    lab.turn("gannet", slow_kvm_s=3.0)
    try:
        facts = await host.reading.facts(5.0)
        assert facts.domain_type == "qemu"
        assert "in software emulation" in facts.domain_reason
    finally:
        lab.turn("gannet", slow_kvm_s=0)


async def test_each_trouble_has_its_own_words(host: KvmHost, lab: LabProcess) -> None:
    await host.storage.volume("gannet-local", "x")
    lab.turn("gannet", unreachable=True)
    with pytest.raises(Unreachable):
        await host.storage.volume("gannet-local", "x")
    lab.turn("gannet", unreachable=False, login_refused=True)
    with pytest.raises(LoginRefused, match="rejected the login for “root”"):
        await host.storage.volume("gannet-local", "x")
    lab.turn("gannet", login_refused=False, new_host_key=True)
    with pytest.raises(HostKeyChanged, match="was pinned"):
        await host.storage.volume("gannet-local", "x")
    lab.turn("gannet", new_host_key=False)
    assert await host.storage.volume("gannet-local", "x") is None
    lab.turn("gannet", garbage=True)
    with pytest.raises(RemoteFailed, match="cannot be read"):
        await host.reading.facts(5.0)
    lab.turn("gannet", garbage=False)


async def test_a_slow_host_runs_into_the_limit_and_the_connection_stays_usable(
    host: KvmHost, lab: LabProcess
) -> None:
    await host.storage.volume("gannet-local", "x")
    lab.turn("gannet", slow_s=30)
    with pytest.raises(RemoteTimeout):
        await host.vms._session._reach.ssh.run(
            host.vms._session._target,
            "LC_ALL=C timeout -k 2 1 virsh -q -c qemu:///system hostname",
            limit_s=-4,
        )
    lab.turn("gannet", slow_s=0)
    assert await host.storage.volume("gannet-local", "x") is None


async def test_what_does_not_bear_our_mark_is_left_alone(host: KvmHost) -> None:
    with pytest.raises(Conflict, match="left unchanged|was not created"):
        await host.vms.remove("survey-db", "r1")
    with pytest.raises(Conflict, match="left unchanged|was not created"):
        await host.storage.delete("gannet-local", "payroll.qcow2")
    assert await host.vms.running("survey-db")


async def test_addresses_outside_the_policy_are_not_dialled(lab: LabProcess) -> None:
    from nimble_stone.core.errors import InputError

    policy = DialPolicy()
    for address in ("8.8.8.8", "169.254.169.254", "not-an-address"):
        with pytest.raises(InputError):
            policy.real(address, 22)
    assert reach_of(lab).policy.real("10.44.1.11", 22) == (f"127.{lab.octet}.1.11", 20022)


async def test_a_line_is_never_joined_to_a_last_line_without_its_end(host: KvmHost) -> None:
    ground = host.preparation
    before = (await host.preparation._text_of("/etc/hosts") or "").rstrip("\n")
    await ground.send(Command("LC_ALL=C timeout -k 2 10 tee /etc/hosts", before + "\n10.44.99.7 x"))
    action = prep.AddNames(
        host=host.name, records=(prep.NameRecord(address=IPv4Address("10.44.99.8"), names=("y",)),)
    )
    for command in ground.work(action, "gjoin").act():
        await ground.send(command)
    found = await ground.name_records()
    assert (found["10.44.99.7"], found["10.44.99.8"]) == ({"x"}, {"y"})
    await ground.send(Command("LC_ALL=C timeout -k 2 10 tee /etc/hosts", before + "\n"))
