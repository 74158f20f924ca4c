"""Whether an address is in use, asked by Debian's arping on a real bridge: two network namespaces
of this machine, one of them with the address.
"""

from __future__ import annotations

import asyncio
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from nimble_stone.hosts.api import InUse
from nimble_stone.hosts.kvm.probes import KvmProbes
from nimble_stone.reach import Answer

ASKER, OTHER = f"nsask{os.getpid() % 9999}", f"nsoth{os.getpid() % 9999}"
MAC = "52:54:00:0b:00:01"


def ip(*words: str) -> None:
    subprocess.run(["ip", *words], check=True, capture_output=True)


@pytest.fixture(scope="module")
def bridge() -> Iterator[str]:
    """A bridge without an address, and behind it a machine with 10.44.9.2."""
    for name in (ASKER, OTHER):
        ip("netns", "add", name)
    ip("-n", ASKER, "link", "add", "br7", "type", "bridge")
    ip("-n", ASKER, "link", "add", "p0", "type", "veth", "peer", "name", "e0", "netns", OTHER)
    for words in (("set", "p0", "master", "br7"), ("set", "p0", "up"), ("set", "br7", "up")):
        ip("-n", ASKER, "link", *words)
    ip("-n", OTHER, "link", "set", "e0", "address", MAC, "up")
    ip("-n", OTHER, "addr", "add", "10.44.9.2/24", "dev", "e0")
    ip("-n", ASKER, "link", "set", "lo", "up")
    yield "br7"
    for name in (ASKER, OTHER):
        ip("netns", "del", name)


class Session:
    """Runs a host's commands in the asking namespace."""

    name = "gannet"

    def __init__(self, path: str = "") -> None:
        self.path = path

    async def run(self, command: str, limit_s: float = 60) -> Answer:
        environment = {"PATH": self.path or os.environ["PATH"], "LC_ALL": "C"}
        done = await asyncio.to_thread(
            subprocess.run,
            ["/sbin/ip", "netns", "exec", ASKER, "/bin/sh", "-c", command],
            capture_output=True,
            text=True,
            env=environment,
        )
        return Answer(done.returncode, done.stdout.encode(), done.stderr, 0.0)


async def asked(address: str, bridge: str, path: str = "") -> InUse:
    return await KvmProbes(Session(path)).in_use(address, bridge)  # type: ignore[arg-type]


async def test_whoever_has_an_address_is_found_by_its_mac(bridge: str) -> None:
    found = await asked("10.44.9.2", bridge)
    assert (found.used, found.mac) == (True, MAC)
    assert MAC in found.words
    assert (await asked("10.44.9.3", bridge)).used is False


async def test_an_address_of_the_host_itself_is_in_use(bridge: str) -> None:
    ip("-n", ASKER, "addr", "add", "10.44.9.9/24", "dev", "br7")
    found = await asked("10.44.9.9", bridge)
    ip("-n", ASKER, "addr", "del", "10.44.9.9/24", "dev", "br7")
    assert (found.used, found.words) == (True, "gannet itself has it")


async def test_what_cannot_be_asked_is_neither_used_nor_free(bridge: str, tmp_path: Path) -> None:
    for tool in ("timeout", "ip"):
        (tmp_path / tool).symlink_to(str(shutil.which(tool)))
    nothing = await asked("10.44.9.2", bridge, str(tmp_path))
    assert (nothing.used, nothing.words) == (None, "arping is not installed on gannet")
    wrong = await asked("10.44.9.2", "br9")
    assert wrong.used is None
    assert "br9" in wrong.words


CLOCK = """import socket
door = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
door.bind(("10.44.9.2", 123))
print("up", flush=True)
asked, whom = door.recvfrom(100)
assert (len(asked), asked[0] & 7, asked[0] >> 3 & 7) == (48, 3, 4), asked
door.sendto(bytes(48), whom)
"""


async def test_a_time_server_is_asked_as_the_standard_says(bridge: str) -> None:
    """RFC 5905: 48 bytes in one datagram, version 4, mode 3."""
    probes = KvmProbes(Session())  # type: ignore[arg-type]
    ip("-n", ASKER, "addr", "add", "10.44.9.1/24", "dev", bridge)
    line = ["ip", "netns", "exec", OTHER, sys.executable, "-c", CLOCK]
    with subprocess.Popen(line, stdout=subprocess.PIPE) as server:  # noqa: ASYNC220
        assert server.stdout is not None
        assert server.stdout.readline() == b"up\n"
        assert await probes.tells_time("10.44.9.2")
        assert server.wait(10) == 0
    assert not await probes.tells_time("10.44.9.2")
    assert not await probes.tells_time("x; reboot")
    ip("-n", ASKER, "addr", "del", "10.44.9.1/24", "dev", bridge)


async def test_names_are_asked_both_ways(bridge: str) -> None:
    probes = KvmProbes(Session())  # type: ignore[arg-type]
    # a machine without any address looks nothing up
    ip("-n", ASKER, "addr", "add", "10.44.9.1/24", "dev", bridge)
    known = await probes.addresses_of(["localhost", "no-such-name.invalid"])
    assert known == {"localhost": "127.0.0.1", "no-such-name.invalid": ""}
    assert await probes.name_of("127.0.0.1") == "localhost"
    assert await probes.name_of("192.0.2.9") == ""
