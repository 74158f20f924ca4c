"""Two real hosts and a server inside their network, for all tests here."""

from __future__ import annotations

import fcntl
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.hypervisor import hosts
from tests.support.processes import ServerProcess


@pytest.fixture(scope="package")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A folder that QEMU's own user can pass through."""
    path = tmp_path_factory.mktemp("hypervisor")
    for part in (path, *path.parents):
        if str(part).startswith("/tmp/"):
            part.chmod(0o755)
    yield path


@pytest.fixture(scope="package")
def estate(folder: Path) -> Iterator[list[hosts.RealHost]]:
    with (Path(tempfile.gettempdir()) / "nimble-stone-real-hosts").open("w") as lock:
        # there is one such network on a machine: another test process waits for it
        fcntl.flock(lock, fcntl.LOCK_EX)
        with hosts.two_hosts(folder / "hosts") as running:
            yield running


@pytest.fixture(scope="package")
def server(folder: Path, estate: list[hosts.RealHost]) -> Iterator[ServerProcess]:
    """The server inside the hosts' network namespace; its listening socket stays outside."""
    (folder / "data").mkdir(mode=0o700)
    # Emulated guests take their time over a key exchange.
    (folder / "data/dial.yaml").write_text(
        "nimble-stone: dial/1\nallowed: [10.44.20.0/24]\nconnect_seconds: 40\n"
    )
    process = ServerProcess(folder / "data", pace=1.0, netns=hosts.NETNS)
    yield process
    process.stop()
