"""A lab of many hosts that answer at once, and a server that knows them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from nimble_stone.cli.client import Client
from tests.support.processes import LabProcess, ServerProcess, prepare, small_package


@dataclass(frozen=True)
class Scene:
    """What the measurements talk to."""

    lab: LabProcess
    client: Client


@contextmanager
def many_hosts(folder: Path, hosts: int) -> Iterator[Scene]:
    """So many hosts in the bay “outfield”, at endless speed."""
    lab = LabProcess(folder / "lab", speed=100_000, more_hosts=hosts)
    data = folder / "data"
    data.mkdir(mode=0o700)
    (data / "dial.yaml").write_text(lab.dial())
    server = ServerProcess(data, pace=0.001)
    try:
        client = server.client()
        prepare(client, lab, small_package(folder, mib=1))
        yield Scene(lab, client)
    finally:
        server.stop()
        lab.stop()
