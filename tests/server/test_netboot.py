"""Booting from the network: what dnsmasq is told, by dnsmasq's own check, and what iPXE gets of
this server. The real machine is in tests/hypervisor/test_quorum.py.
"""

from __future__ import annotations

import asyncio
import os
import subprocess
from collections.abc import Iterator
from ipaddress import IPv4Interface
from pathlib import Path

import pytest

from nimble_stone.core.errors import InputError, StoneError
from nimble_stone.reach import netboot
from nimble_stone.server import netboot as scripts
from tests.support.machines import Place, machine_scene
from tests.support.processes import CLI, wait_for

NETWORK = IPv4Interface("10.44.20.2/23")


@pytest.mark.parametrize("span", ["", "10.44.20.200-10.44.20.220"])
def test_dnsmasq_takes_the_configuration(tmp_path: Path, span: str) -> None:
    (tmp_path / "tftp").mkdir()
    (tmp_path / "hosts").mkdir()
    (tmp_path / "hosts/one").write_text("52:54:00:00:00:01,set:known\n")
    text = netboot.config(tmp_path, "lo", NETWORK, span, "http://10.44.20.2:8440/netboot/x")
    file = tmp_path / "dnsmasq.conf"
    file.write_text(text)
    done = subprocess.run(
        ["/usr/sbin/dnsmasq", "--test", f"--conf-file={file}"], capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    assert ("proxy" in text) == (span == "")
    assert "dhcp-ignore=tag:!known" in text


def test_a_range_that_is_none_and_an_interface_without_address_are_told(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="is no range of addresses"):
        netboot.config(tmp_path, "lo", NETWORK, "10.44.20.2", "x")
    with pytest.raises(InputError, match="nowhere0 has no IPv4 address"):
        netboot.address_of("nowhere0")
    assert str(netboot.address_of("lo")) == "127.0.0.1/8"


async def test_it_answers_planned_machines_and_ends_with_the_server(tmp_path: Path) -> None:
    log = tmp_path / "netboot.log"
    found = netboot.NetBoot(log, "lo", IPv4Interface("127.0.0.1/8"), "")
    await found.open("http://127.0.0.1/netboot/x")
    assert found.trouble == ""
    assert found._process is not None
    pid = found._process.pid
    for macs in (["52:54:00:AA:00:01"], ["52:54:00:AA:00:01", "52:54:00:AA:00:02"]):
        await found.answer(macs)
        read = f"{len(macs)}-525400aa000{len(macs)}"
        wait_for(lambda name=read: name in log.read_text(), 20, "the new line to be read")
    # the same process, and a new one only to forget
    assert found._process.pid == pid
    await found.answer([])
    assert found._process.pid != pid
    assert not list((found._folder / "hosts").iterdir())
    # one that ended by itself is started again when it is needed
    found._process.kill()
    while not found.trouble:
        await asyncio.sleep(0.01)
    await found.answer(["52:54:00:AA:00:03"])
    assert found.trouble == ""
    pid = found._process.pid
    await found.close()
    with pytest.raises(ProcessLookupError):
        os.kill(pid, 0)


async def test_what_a_killed_server_left_running_is_ended_by_the_next(tmp_path: Path) -> None:
    log, network = tmp_path / "netboot.log", IPv4Interface("127.0.0.1/8")
    left = netboot.NetBoot(log, "lo", network, "")
    await left.open("http://127.0.0.1/netboot/x")
    assert left._process is not None
    found = netboot.NetBoot(log, "lo", network, "")
    await found.open("http://127.0.0.1/netboot/x")
    assert found.trouble == ""
    await asyncio.wait_for(left._process.wait(), 10)
    await found.answer(["52:54:00:AA:00:01"])
    assert found.trouble == ""
    await found.close()
    await left.close()


def test_a_script_names_every_ramdisk() -> None:
    text = scripts.script("http://s/k", ["http://s/a", "http://s/b"], "quiet x=1")
    assert text.splitlines() == [
        "#!ipxe",
        "kernel http://s/k initrd=initrd0 initrd=initrd1 quiet x=1",
        "initrd --name initrd0 http://s/a",
        "initrd --name initrd1 http://s/b",
        "boot",
    ]


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    with machine_scene(tmp_path_factory.mktemp("netboot")) as found:
        yield found


def preview(place: Place, name: str) -> list[str]:
    work = {"actions": [{"kind": "inspect", "host": name}]}
    steps = place[2].call("POST", "/api/estate/groundwork/preview", work)["steps"]
    return [why for step in steps for why in step["refusals"]]


def test_a_machine_without_media_may_boot_from_the_network_if_the_server_answers(
    place: Place,
) -> None:
    _, server, client = place
    assert any("let it boot from the network" in why for why in preview(place, "flint"))
    said = server.cli("estate", "boots-from", "flint", "network").stdout
    assert said == "flint boots from the network.\n"
    # this server was not started for it, and that is told before anything is done
    assert [why for why in preview(place, "flint") if "virtual media" in why] == []
    assert "start it with --netboot-interface" in preview(place, "flint")[0]
    # nothing is on offer: whoever asks is sent on to its own drive
    text = subprocess.run(
        ["curl", "-sf", f"{server.url}/netboot/52-54-bb-03-67-01"], capture_output=True, check=True
    ).stdout
    assert text == b"#!ipxe\nexit\n"
    server.cli("estate", "boots-from", "flint", "media")
    with pytest.raises(StoneError):
        client.call("PATCH", "/api/estate/machines/flint", {"boots": "tape"})


def test_a_server_that_is_told_an_interface_without_address_does_not_start(tmp_path: Path) -> None:
    done = subprocess.run(
        [*CLI, "serve", "--data", str(tmp_path / "data"), "--netboot-interface", "nowhere0"],
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert done.returncode == 2
    assert "nowhere0 has no IPv4 address" in done.stderr
