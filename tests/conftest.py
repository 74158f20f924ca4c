"""Fixtures for tests that need the lab and the server as real processes."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings
from xdist.remote import Producer
from xdist.scheduler import LoadScopeScheduling

from nimble_stone.cli.client import Client
from tests.support.processes import LabProcess, ServerProcess, prepare, small_package

# a loaded machine is no fault of the code
settings.register_profile("everywhere", deadline=None)
settings.load_profile("everywhere")


LONG = ("browser", "server", "engine", "cli")
"""Folders whose files take long: what is short comes last, so that both workers end together."""


class ByFile(LoadScopeScheduling):
    """A file is for one worker. All that need the real hosts are for the same one: there are no
    others on this machine, and a second worker would only wait for them.
    """

    def _split_scope(self, nodeid: str) -> str:
        file = nodeid.partition("::")[0]
        return "real hosts" if "hypervisor/" in file else file


def pytest_xdist_make_scheduler(config: pytest.Config, log: Producer) -> ByFile:
    return ByFile(config, log)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What takes longest begins first."""

    def turn(item: pytest.Item) -> int:
        folder = item.path.parent.name
        if folder == "hypervisor":
            return 0 if item.path.name == "test_rollout.py" else 1
        return 2 if folder in LONG else 3

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
