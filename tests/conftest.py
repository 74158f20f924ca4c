"""Fixtures for tests that need the lab and the server as real processes."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from nimble_stone.cli.client import Client
from tests.support.processes import LabProcess, ServerProcess, prepare, small_package

# a loaded machine is no fault of the code
settings.register_profile("everywhere", deadline=None)
settings.load_profile("everywhere")


ONE_AT_A_TIME = "real hosts"
LONG = ("browser", "server", "engine", "cli")
"""Folders whose files take long: what is short comes last, so that both workers end together."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """A file is for one worker. All that need the real hosts are for one worker, and come first:
    the hosts are this machine's only ones, so a second worker would wait for them.
    """

    def turn(item: pytest.Item) -> int:
        folder = item.path.parent.name
        if folder == "hypervisor":
            return 0 if item.path.name == "test_rollout.py" else 1
        return 2 if folder in LONG else 3

    for item in items:
        own = item.path.parent.name != "hypervisor"
        group = f"{item.path.parent.name}/{item.path.name}" if own else ONE_AT_A_TIME
        item.add_marker(pytest.mark.xdist_group(group))
    items.sort(key=turn)


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LabProcess]:
    """The stand-ins, four hundred times faster than the clock."""
    process = LabProcess(tmp_path_factory.mktemp("lab") / "lab")
    yield process
    process.stop()


@pytest.fixture(scope="module")
def package(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A small Gauge Collector."""
    return small_package(tmp_path_factory.mktemp("package"))


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory, lab: LabProcess) -> Iterator[ServerProcess]:
    """A server whose dial policy leads to the lab."""
    data = tmp_path_factory.mktemp("server") / "data"
    data.mkdir(mode=0o700)
    (data / "dial.yaml").write_text(lab.dial())
    process = ServerProcess(data)
    yield process
    process.stop()


@pytest.fixture(scope="module")
def client(server: ServerProcess, lab: LabProcess, package: Path) -> Client:
    """Signed in, with the demonstration estate, the package and the plan “western”."""
    found = server.client()
    prepare(found, lab, package)
    return found
