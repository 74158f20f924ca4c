"""The ground of real hosts: read as it is, and prepared: a key, name records, an isolated network,
a datastore; taken back again.
"""

from __future__ import annotations

import os
import subprocess
import time
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from tests.hypervisor import hosts
from tests.support.processes import ServerProcess, wait_for

pytestmark = pytest.mark.timeout(600)


def _ssh(folder: Path, host: str, *words: str, key: str = "") -> str:
    """Ask a host without the product."""
    found = subprocess.run(
        [
            "ip",
            "netns",
            "exec",
            hosts.NETNS,
            "ssh",
            "-o",
            "StrictHostKeyChecking=no",
            "-o",
            "UserKnownHostsFile=/dev/null",
            "-i",
            key or str(folder / "hosts/key"),
            f"root@{hosts.NAMES[host]}",
            *words,
        ],
        capture_output=True,
        text=True,
        timeout=60,
    )
    return found.stdout.strip()


def _known(folder: Path, server: ServerProcess) -> Client:
    client = server.client()
    server.cli("secret", "set", "host-key", "--key", stdin=(folder / "hosts/key").read_text())
    (folder / "estate.yaml").write_text(hosts.ESTATE)
    server.cli("estate", "load", str(folder / "estate.yaml"))
    server.cli("estate", "refresh")
    return client


def _run(client: Client, *actions: dict[str, Any]) -> str:
    body = {"actions": list(actions)}
    seen = client.call("POST", "/api/estate/groundwork/preview", body)
    assert not [text for step in seen["steps"] for text in step["refusals"]], seen
    client.call("POST", "/api/estate/groundwork", {"run": seen["run"], "work": body})
    _until(client, seen["run"], "done")
    return str(seen["run"])


def _until(client: Client, run: str, wanted: str) -> None:
    view: dict[str, Any] = {}

    def there() -> bool:
        view.update(client.call("GET", f"/api/groundwork/{run}"))
        return view["state"] in (wanted, "trouble")

    wait_for(there, 120, wanted)
    assert view["state"] == wanted, [(s["key"], s["message"]) for s in view["steps"]]


def test_a_real_host_is_read_as_it_is(
    folder: Path, estate: list[hosts.RealHost], server: ServerProcess
) -> None:
    client = _known(folder, server)
    began = time.monotonic()
    client.call("POST", "/api/estate/read", {})
    took = time.monotonic() - began
    facts = client.call("GET", "/api/estate/facts")["facts"]
    one = facts["gannet"]
    assert not one["trouble"]
    assert one["kernel"] == os.uname().release
    assert one["threads"] == os.cpu_count()
    assert one["sockets"] * one["cores"] > 0
    assert (
        abs(one["memory_bytes"] - os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE"))
        < 1 << 28
    )
    # it is the same clock
    assert abs(one["time"]["offset_s"]) <= one["time"]["uncertain_s"] + 0.5
    links = {link["name"]: link for link in one["interfaces"]}
    assert links["br0"]["kind"] == "bridge"
    assert links["br0"]["addresses"] == ["10.44.20.2/24"]
    assert links["up0"]["master"] == "br0"
    assert {
        net["name"]: (net["bridge"], net["isolated"]) for net in one["networks"] if net["active"]
    } == {"survey": ("br0", False)}
    assert [path["passes"] for path in one["paths"]] == [True]
    assert one["paths"][0]["peer"] == "fulmar"
    root = [disk for disk in one["disks"] if disk["use"] == "free"]
    assert not root or all(disk["size_bytes"] for disk in root)
    assert {store["name"] for store in one["datastores"]} == {"gannet-local"}
    assert one["resolves"] == {"gannet": "", "fulmar": ""}
    assert took < 30
    # somebody's hand: the next reading says so
    _ssh(folder, "gannet", "ip", "link", "set", "br0", "mtu", "1400")
    try:
        client.call("POST", "/api/estate/read", {})
        one = client.call("GET", "/api/estate/facts")["facts"]["gannet"]
        assert {(c["what"], c["was"], c["now"]) for c in one["changes"]} >= {
            ("network survey", "MTU 1500", "MTU 1400")
        }
        assert "mtu" in {v["rule"] for v in client.call("GET", "/api/estate/rules")["violations"]}
        assert [path["mtu"] for path in one["paths"]] == [1400]
    finally:
        _ssh(folder, "gannet", "ip", "link", "set", "br0", "mtu", "1500")


def test_real_hosts_are_prepared_and_put_back(
    folder: Path, estate: list[hosts.RealHost], server: ServerProcess
) -> None:
    client = _known(folder, server)
    key = client.call("POST", "/api/estate/keys", {"name": "real-rollout"})
    records = [
        {"address": address, "names": [f"{name}.kelda.holm.example", name]}
        for name, address in hosts.NAMES.items()
    ]
    actions = [
        action
        for name in hosts.NAMES
        for action in (
            {
                "kind": "ssh-key",
                "host": name,
                "credential": "real-rollout",
                "public": key["public"],
            },
            {"kind": "names", "host": name, "records": records},
            {"kind": "isolated-network", "host": name, "name": "inner", "bridge": "inner0"},
            {
                "kind": "datastore-folder",
                "host": name,
                "name": f"{name}-more",
                "path": f"/var/lib/libvirt/images/{name}-more",
            },
        )
    ]
    first = _run(client, *actions)
    # the world agrees, asked without the product
    for name in hosts.NAMES:
        assert _ssh(folder, name, "getent", "hosts", "fulmar").split()[0] == hosts.NAMES["fulmar"]
        assert f"{name}-more" in _ssh(folder, name, "virsh", "-q", "pool-list", "--name")
        assert "<forward" not in _ssh(folder, name, "virsh", "-q", "net-dumpxml", "inner")
        assert "inner" in _ssh(folder, name, "virsh", "-q", "net-list", "--name")
        assert key["public"].split()[1] in _ssh(folder, name, "cat", ".ssh/authorized_keys")
    facts = client.call("GET", "/api/estate/facts")
    # we log in by it, and were read by it
    assert {host["credential"] for host in facts["hosts"]} == {"real-rollout"}
    assert facts["facts"]["gannet"]["resolves"] == hosts.NAMES
    assert {
        net["name"]: net["isolated"]
        for net in facts["facts"]["fulmar"]["networks"]
        if net["active"]
    } == {"survey": False, "inner": True}

    # twice changes nothing
    second = _run(client, *actions)
    for name in hosts.NAMES:
        assert _ssh(folder, name, "cat", "/etc/hosts").count("nimble-stone:") == 2
        assert _ssh(folder, name, "cat", ".ssh/authorized_keys").count("ssh-ed25519") == 1
    _ssh(folder, "gannet", "touch", "/var/lib/libvirt/images/gannet-more/somebodys")
    client.call("POST", f"/api/groundwork/{second}/undo", {})
    _until(client, second, "undone")
    # the first run made it, so the second leaves it
    assert "inner" in _ssh(folder, "gannet", "virsh", "-q", "net-list", "--name")

    client.call("POST", f"/api/groundwork/{first}/undo", {})
    wait_for(
        lambda: any(
            "somebodys" in step["message"]
            for step in client.call("GET", f"/api/groundwork/{first}")["steps"]
        ),
        60,
        "the refusal",
    )
    # something of somebody lies in it
    assert "gannet-more" in _ssh(folder, "gannet", "virsh", "-q", "pool-list", "--name")
    _ssh(folder, "gannet", "rm", "/var/lib/libvirt/images/gannet-more/somebodys")
    client.call("POST", f"/api/groundwork/{first}/undo", {})
    _until(client, first, "undone")
    for name in hosts.NAMES:
        assert f"{name}-more" not in _ssh(
            folder, name, "virsh", "-q", "pool-list", "--all", "--name"
        )
        assert "inner" not in _ssh(folder, name, "virsh", "-q", "net-list", "--all", "--name")
        assert "nimble-stone:" not in _ssh(folder, name, "cat", "/etc/hosts") + _ssh(
            folder, name, "cat", ".ssh/authorized_keys"
        )
    assert {host["credential"] for host in client.call("GET", "/api/estate/facts")["hosts"]} == {
        "host-key"
    }
