"""Real processes for tests: the lab and the server, each killed by its own process id only."""

from __future__ import annotations

import contextlib
import json
import os
import re
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import httpx

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.scenario import appliance, demo
from tests.support import spawning
from tests.support.loopback import lease, release

CLI = [sys.executable, "-m", "nimble_stone.cli.entry"]


def wait_for(condition: Any, seconds: float = 60.0, what: str = "condition") -> Any:
    """The condition's first true value; fails after so many seconds."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        value = condition()
        if value:
            return value
        time.sleep(0.03)
    raise AssertionError(f"{what} did not come about within {seconds:g} s")


class LabProcess:
    """The stand-ins as a process of their own: they survive whatever happens to the server."""

    def __init__(self, folder: Path, *, speed: float = 400.0, more_hosts: int = 0) -> None:
        self.folder, self.octet, self.more_hosts = folder, lease(), more_hosts
        self.plan = demo.plan(more_hosts, self.octet)
        folder.mkdir(parents=True, exist_ok=True)
        self._log = (folder.parent / "lab.log").open("ab")
        self.process = spawning.begin(
            [
                "lab",
                "serve",
                "--folder",
                str(folder),
                "--octet",
                str(self.octet),
                "--speed",
                str(speed),
                "--more-hosts",
                str(more_hosts),
            ],
            stdout=self._log.fileno(),
            stderr=self._log.fileno(),
        )
        self.url = ""
        wait_for(self._up, 60, "the lab")

    def _up(self) -> bool:
        try:
            self.url = (
                f"http://127.0.0.1:{json.loads((self.folder / 'control.json').read_text())['port']}"
            )
            return httpx.get(f"{self.url}/lab", trust_env=False).status_code == 200
        except (OSError, ValueError, httpx.HTTPError):
            return False

    def show(self) -> dict[str, Any]:
        """Knobs, guests, volumes and logs."""
        return dict(httpx.get(f"{self.url}/lab", trust_env=False, timeout=30).json())

    def turn(self, host: str, **knobs: Any) -> None:
        """Set knobs of a host, or of the whole lab with 'all'."""
        answer = httpx.post(
            f"{self.url}/lab" + ("" if host == "all" else f"/hosts/{host}"),
            json=knobs,
            trust_env=False,
            timeout=30,
        )
        assert answer.status_code == 200, answer.text

    def power(self, machine: str, kind: str) -> None:
        """Somebody at the machine itself switches it."""
        self.turn(machine, power=kind)

    def dial(self) -> str:
        """The dial policy that maps planned addresses to the lab."""
        return (
            "nimble-stone: dial/1\nmapped:\n  - {planned: 10.44.0.0/16, real:"
            f" 127.{self.octet}.0.0/16}}\n  - {{planned: 10.45.0.0/16, real:"
            f" 127.{self.octet + 1}.0.0/16}}\nlow_ports: 20000\nconnect_seconds: 4\n"
        )

    def stop(self) -> None:
        """End it."""
        self.process.terminate()
        self.process.wait(20)
        self._log.close()
        release(self.octet)


class ServerProcess:
    """`nimble-stone serve` as a process. `kill` is kill -9; `start` begins a new life on the same
    data folder.
    """

    def __init__(
        self,
        data: Path,
        *,
        pace: float = 0.01,
        netns: str = "",
        inbox: Path | None = None,
        reachable: bool | str = False,
        more: Sequence[str] = (),
    ) -> None:
        self.more = more
        self.data, self.pace, self.netns, self.inbox, self.reachable = (
            data,
            pace,
            netns,
            inbox,
            reachable,
        )
        data.mkdir(parents=True, exist_ok=True)
        self.socket = socket.create_server(("127.0.0.1", 0))
        self.port = self.socket.getsockname()[1]
        self.url = f"http://127.0.0.1:{self.port}"
        self.process: spawning.Started | subprocess.Popen[bytes] | None = None
        self._client: Client | None = None
        self.log = data.parent / "server.log"
        self.start()

    def _reachable(self) -> list[str]:
        """How others reach it: at its own address, or under another host name."""
        if not self.reachable:
            return []
        other = self.reachable if isinstance(self.reachable, str) else "127.0.0.1"
        return ["--reachable-at", f"http://{other}:{self.port}"]

    def start(self, *, wait: bool = True) -> None:
        """Begin a life and, unless told otherwise, wait until it answers."""
        number = self.socket.fileno()
        words = [
            "serve",
            "--data",
            str(self.data),
            "--fd",
            str(number),
            "--pace",
            str(self.pace),
            "--port",
            str(self.port),
            *(["--inbox", str(self.inbox)] if self.inbox else []),
            *self._reachable(),
            *self.more,
        ]
        with self.log.open("ab") as log:
            if self.netns:
                self.process = subprocess.Popen(
                    ["ip", "netns", "exec", self.netns, *CLI, *words],
                    pass_fds=[number],
                    stdout=log,
                    stderr=log,
                )
            else:
                out = log.fileno()
                self.process = spawning.begin(words, stdout=out, stderr=out, more=[number])
        if wait:
            self.wait_up()

    def wait_up(self) -> None:
        """Wait until it answers."""
        wait_for(self._up, 60, "the server")

    def _up(self) -> bool:
        assert self.process is not None
        assert self.process.poll() is None, self.log.read_text()[-3000:]
        try:
            return (
                httpx.get(f"{self.url}/api/health", trust_env=False, timeout=2).status_code == 200
            )
        except httpx.HTTPError:
            return False

    def kill(self) -> None:
        """kill -9."""
        if self.process and self.process.poll() is None:
            self.process.send_signal(signal.SIGKILL)
            self.process.wait(20)

    def stop_only(self) -> None:
        """End this life in an orderly way; `start` begins another one."""
        if self.process and self.process.poll() is None:
            self.process.terminate()
            self.process.wait(30)

    def stop(self) -> None:
        """End it in an orderly way."""
        self.stop_only()
        self.socket.close()

    @property
    def key(self) -> str:
        """The access key."""
        return str(re.findall(r"Access key [^:]*: (\S+)", self.log.read_text())[-1])

    @property
    def token(self) -> str:
        """The token of the command line."""
        return str(json.loads((self.data / "client.json").read_text())["token"])

    def client(self) -> Client:
        """A signed-in client. Its session outlives the server's process; to sign in again each time
        costs as much as a small run.
        """
        if self._client is None or not self._is_signed_in(self._client):
            self._client = Client(self.url, self.key)
        return self._client

    @staticmethod
    def _is_signed_in(client: Client) -> bool:
        try:
            client.call("GET", "/api/session")
        except StoneError:
            return False
        return True

    def cli(
        self, *words: str, check: int | None = 0, stdin: str = ""
    ) -> subprocess.CompletedProcess[str]:
        """Run the command line against this server."""
        own = {"NIMBLE_STONE_DATA": str(self.data), "NIMBLE_STONE_URL": self.url}
        found = spawning.run(words, text=stdin, env={**os.environ, **own})
        assert check is None or found.returncode == check, (
            f"{words} → {found.returncode}\n{found.stdout}\n{found.stderr}"
        )
        return found


@contextlib.contextmanager
def lab_and_server(
    folder: Path, *, more_hosts: int = 0, reachable: bool = False
) -> Iterator[tuple[LabProcess, ServerProcess, Client]]:
    """The stand-ins, and a server that knows none of them yet but how to log in (keyring entries of
    the demonstration).
    """
    lab = LabProcess(folder / "lab", more_hosts=more_hosts)
    data = folder / "data"
    data.mkdir(mode=0o700)
    (data / "dial.yaml").write_text(lab.dial())
    server = ServerProcess(data, reachable=reachable)
    client = server.client()
    client.call("PUT", f"/api/secrets/{demo.CREDENTIAL}", {"value": demo.PASSWORD})
    client.call("PUT", f"/api/secrets/{demo.BMC_CREDENTIAL}", {"value": demo.BMC_PASSWORD})
    try:
        yield lab, server, client
    finally:
        server.stop()
        lab.stop()


PASSWORD = "Tide-tables 1893"


def prepare(
    client: Client, lab: LabProcess, package: Path, *, plan: str = demo.PLAN
) -> dict[str, Any]:
    """The demonstration estate, the package and a plan that is ready to run; the plan's view."""
    client.call("PUT", f"/api/secrets/{demo.CREDENTIAL}", {"value": demo.PASSWORD})
    client.call("POST", "/api/estate", demo.estate_file(lab.plan).model_dump(mode="json"))
    client.call("POST", "/api/estate/read", {})
    wait_for(lambda: _all_read(client), what="facts of all hosts")
    client.upload(package, lambda *_: None)
    return ready_plan(client, plan)


def _all_read(client: Client) -> bool:
    """Whether all hosts were read; those that were not are read again: a slow machine may have cut
    a login.
    """
    if any(one["trouble"] for one in client.call("GET", "/api/estate")["hosts"]):
        client.call("POST", "/api/estate/read", {})
        return False
    return True


def ready_plan(client: Client, text: str) -> dict[str, Any]:
    """A plan with its password typed and its licence accepted."""
    view = client.call("POST", "/api/plans", {"text": text})
    view = client.call(
        "POST",
        f"/api/plans/{view['id']}/secret",
        {"version": view["version"], "column": "admin_password", "value": PASSWORD},
    )
    if not view["licence_text"]:
        return dict(view)
    return dict(
        client.call(
            "POST", f"/api/plans/{view['id']}/licence", {"version": view["version"], "by": "mira"}
        )
    )


def small_package(folder: Path, *, mib: int = 2) -> Path:
    """The Gauge Collector with little content."""
    path = folder / "gauge-collector-4.2.0.ova"
    path.write_bytes(appliance.ova(mib=mib))
    return path


def ended(
    client: Client,
    run: str,
    seconds: float = 120.0,
    *,
    states: tuple[str, ...] = ("done", "unproved", "trouble", "undone"),
) -> dict[str, Any]:
    """The run once it is in one of these states. What failed in it is printed: pytest shows it when
    the caller wanted another state.
    """
    view: dict[str, Any] = {}

    def there() -> bool:
        nonlocal view
        view = client.call("GET", f"/api/runs/{run}")
        return view["state"] in states

    wait_for(there, seconds, f"run {run} to end")
    for step in view["steps"]:
        if step["state"] == "failed":
            print(f"run {run}: {step['key']} failed: {step['message']}")
    return view
