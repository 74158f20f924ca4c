"""The stand-in's command line answers as the real one does: words, exit codes, and what it
keeps.
"""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from nimble_stone.hosts.api import VmAddress
from nimble_stone.hosts.kvm import xml_in
from nimble_stone.lab.guests.home import OnHost
from nimble_stone.lab.guests.room import GuestRoom, Running
from nimble_stone.lab.hypervisor import state
from nimble_stone.lab.hypervisor.state import LabGuest, LabHost, Volumes
from nimble_stone.lab.hypervisor.virsh import Out, Shell
from nimble_stone.lab.scenario import demo


class Nobody:
    """No guests boot here."""

    def boot(self, host: LabHost, guest: LabGuest) -> None:
        return None

    halt = boot

    async def takes(self, address: str, port: int) -> bool | None:
        return None

    def answers(self, address: str) -> bool:
        return address == "10.44.20.1"

    def console(self, host: LabHost, name: str) -> str:
        return "gauge: hello"


class Text:
    """Standard input from a text."""

    def __init__(self, text: bytes) -> None:
        self._text = text

    async def read(self, size: int = -1) -> bytes:
        found, self._text = self._text, b""
        return found


@pytest.fixture
def shell(tmp_path: Path) -> Shell:
    host = state.load(demo.plan().hosts[0], tmp_path)
    return Shell(host, Volumes(tmp_path / "volumes"), Nobody())


def run(shell: Shell, command: str, stdin: bytes = b"") -> Out:
    return asyncio.run(shell.run(command.split(), Text(stdin)))


def virsh(shell: Shell, command: str, stdin: bytes = b"") -> Out:
    return run(shell, f"LC_ALL=C timeout -k 2 30 virsh -q -c qemu:///system {command}", stdin)


VOLUME = (
    b"<volume><name>v</name><capacity unit='bytes'>1000</capacity><target><format"
    b" type='qcow2'/></target></volume>"
)
GUEST = (
    b"<domain type='kvm'><name>g</name><memory"
    b" unit='KiB'>%d</memory><vcpu>1</vcpu><devices>%s</devices></domain>"
)


@pytest.mark.parametrize(
    ("command", "words"),
    [
        (
            "vol-dumpxml --pool nowhere v",
            "Storage pool not found: no storage pool with matching name 'nowhere'",
        ),
        (
            "vol-dumpxml --pool gannet-local v",
            "Storage volume not found: no storage vol with matching path 'v'",
        ),
        ("dumpxml nobody", "failed to get domain 'nobody'"),
        ("net-dumpxml nowhere", "Network not found"),
        ("frobnicate", "unknown command: 'frobnicate'"),
        ("destroy nobody", "failed to get domain"),
    ],
)
def test_failures_exit_with_1_and_the_real_words(shell: Shell, command: str, words: str) -> None:
    found = virsh(shell, command)
    assert found.status == 1
    assert words in found.err


def test_a_volume_is_made_filled_cloned_and_removed(shell: Shell) -> None:
    assert virsh(shell, "vol-create gannet-local /dev/stdin", VOLUME).status == 0
    assert "exists already" in virsh(shell, "vol-create gannet-local /dev/stdin", VOLUME).err
    assert virsh(shell, "vol-upload --pool gannet-local v /dev/stdin", b"bytes").status == 0
    assert b"<physical unit='bytes'>5<" in virsh(shell, "vol-dumpxml --pool gannet-local v").out
    assert virsh(shell, "vol-clone --pool gannet-local v w").status == 0
    digest = run(shell, "sha256sum /var/lib/libvirt/images/gannet-local/w").out
    assert digest.startswith(b"277089d9")
    for name in ("v", "w"):
        assert virsh(shell, f"vol-delete --pool gannet-local {name}").status == 0
    assert virsh(shell, "vol-dumpxml --pool gannet-local v").status == 1
    assert list((shell.volumes.folder).glob("[0-9a-f]*")) == []


def test_a_full_datastore_refuses_in_the_real_words(shell: Shell) -> None:
    shell.host.knobs.full = True
    assert (
        "No space left on device" in virsh(shell, "vol-create gannet-local /dev/stdin", VOLUME).err
    )
    assert (
        run(
            shell,
            "LC_ALL=C timeout -k 2 10 df -B1 --output=avail /var/lib/libvirt/images/gannet-local",
        ).out.split()[-1]
        == b"0"
    )


def test_what_another_host_put_into_a_shared_datastore_is_seen_after_a_refresh(
    shell: Shell, tmp_path: Path
) -> None:
    other = Shell(state.load(demo.plan().hosts[1], tmp_path), shell.volumes, Nobody())
    virsh(shell, "vol-create kelda-shared /dev/stdin", VOLUME)
    assert virsh(other, "vol-dumpxml --pool kelda-shared v").status == 1
    virsh(other, "pool-refresh kelda-shared")
    assert virsh(other, "vol-dumpxml --pool kelda-shared v").status == 0


def test_define_accepts_what_start_refuses(shell: Shell) -> None:
    too_much = GUEST % (
        999 << 30 >> 10,
        b"<interface type='network'><source network='survey'/></interface>",
    )
    assert virsh(shell, "define --validate /dev/stdin", too_much).status == 0
    assert "already exists with uuid" in virsh(shell, "define --validate /dev/stdin", too_much).err
    assert "Cannot allocate memory" in virsh(shell, "start g").err
    virsh(shell, "undefine g")
    virsh(
        shell,
        "define --validate /dev/stdin",
        GUEST % (1024, b"<interface type='network'><source network='nowhere'/></interface>"),
    )
    assert "Network not found" in virsh(shell, "start g").err
    virsh(shell, "undefine g")
    virsh(shell, "define --validate /dev/stdin", GUEST % (1024, b""))
    assert virsh(shell, "start g").status == 0
    assert virsh(shell, "domstate g").out.strip() == b"running"
    assert "already active" in virsh(shell, "start g").err


def test_the_state_outlives_the_process(shell: Shell, tmp_path: Path) -> None:
    virsh(shell, "define --validate /dev/stdin", GUEST % (1024, b""))
    virsh(shell, "vol-create gannet-local /dev/stdin", VOLUME)
    again = Shell(
        state.load(demo.plan().hosts[0], tmp_path), Volumes(tmp_path / "volumes"), Nobody()
    )
    assert virsh(again, "domstate g").out.strip() == b"shut off"
    assert virsh(again, "vol-dumpxml --pool gannet-local v").status == 0


def test_other_tools_and_unknown_ones(shell: Shell) -> None:
    assert run(shell, "LC_ALL=C timeout -k 2 5 ping -n -c 1 -W 2 10.44.20.1").status == 0
    assert run(shell, "LC_ALL=C timeout -k 2 5 ping -n -c 1 -W 2 10.44.20.9").status == 1
    assert (
        run(shell, "LC_ALL=C timeout -k 2 10 tail -c 8192 /var/log/libvirt/qemu/g-console.log").out
        == b"gauge: hello"
    )
    assert run(shell, "shutdown now").status == 127
    assert b"eno1" in run(shell, "LC_ALL=C timeout -k 2 10 ip -j link").out


def test_hosts_differ_and_one_lacks_the_survey_network() -> None:
    plan = demo.plan()
    assert len({(host.memory_bytes, host.bedrock) for host in plan.hosts}) == 8
    assert [
        host.name
        for host in plan.hosts
        if not any("survey" in network for network in host.networks)
    ] == ["knot"]
    assert len({host.address for host in demo.plan(400).hosts}) == 408


def test_a_defined_guest_has_mac_addresses_and_tells_its_lease(shell: Shell) -> None:
    nics = (
        b"<interface type='network'><mac address='52:54:00:44:00:07'/><source"
        b" network='survey'/></interface><interface type='network'><source"
        b" network='survey'/></interface>"
    )
    assert virsh(shell, "define --validate /dev/stdin", GUEST % (1024, nics)).status == 0
    found = xml_in.domain(virsh(shell, "dumpxml g").out.decode())
    assert found.macs[0] == "52:54:00:44:00:07"
    assert found.macs[1].startswith("52:54:00:")
    assert (
        virsh(
            shell, "define --validate /dev/stdin", (GUEST % (1024, nics)).replace(b">g<", b">h<")
        ).status
        == 0
    )
    assert xml_in.domain(virsh(shell, "dumpxml h").out.decode()).macs[1] != found.macs[1]
    assert "domain is not running" in virsh(shell, "domifaddr g --source lease").err
    shell.host.guests["g"].running = True
    assert virsh(shell, "domifaddr g --source lease").out.strip() == b""
    shell.host.guests["g"].data["lease"] = "10.44.20.80/23"
    told = virsh(shell, "domifaddr g --source lease").out.decode()
    assert xml_in.interface_addresses(told) == {
        "52:54:00:44:00:07": [VmAddress("10.44.20.80", "23")]
    }
    assert virsh(shell, "domifaddr g --source agent").status == 1
    assert virsh(shell, "domifaddr g --source arp").out.strip() == b""


def test_guests_ask_for_leases_in_order_and_keep_theirs(tmp_path: Path) -> None:
    async def leases() -> list[str]:
        lab = demo.plan()
        room = GuestRoom(lab, Volumes(tmp_path / "volumes"), 10_000.0)
        host = OnHost(state.load(lab.hosts[0], tmp_path), room.volumes)
        guests = [
            LabGuest(
                f"g{n}",
                str(n),
                (
                    GUEST % (1024, f"<interface><source network='{net}'/></interface>".encode())
                ).decode(),
            )
            for n, net in enumerate(("survey", "survey", "storage"))
        ]
        found = [await room._lease(Running(guest, host)) for guest in guests]
        return [*found, await room._lease(Running(guests[0], host))]

    # nobody answers in the storage network
    assert asyncio.run(leases()) == ["10.44.20.80", "10.44.20.81", "", "10.44.20.80"]


def test_what_was_changed_by_hand_is_so_after_a_restart(shell: Shell, tmp_path: Path) -> None:
    virsh(shell, "define /dev/stdin", GUEST % (1 << 20, b""))
    virsh(shell, "start g")
    virsh(shell, "autostart g")
    virsh(shell, "suspend g")
    virsh(shell, "setvcpus g 3 --config --maximum")
    again = state.load(demo.plan().hosts[0], tmp_path).guests["g"]
    assert (again.autostart, again.paused) == (True, True)
    assert "<vcpu" in again.stored
    assert ">3</vcpu>" in again.stored
