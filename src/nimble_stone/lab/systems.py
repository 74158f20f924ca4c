"""Systems outside the plans, such as what watches the nodes: each is described as in a file of
answers, stands at an address, and remembers what it was told.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import partial
from ipaddress import IPv4Address
from pathlib import Path

import aiohttp
from aiohttp import web
from cryptography import x509

from nimble_stone.lab.controllers.certificate import self_made, shown
from nimble_stone.lab.guests.answers import Written, WrittenSystem
from nimble_stone.lab.scenario.demo import LabPlan

FIRST = IPv4Address("10.44.0.21")
"""Where the first one of a file stands; the others follow."""


@dataclass
class Standing:
    """A system, and where it stands."""

    system: WrittenSystem
    address: str
    folder: Path
    _memory: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if self._file.exists():
            self._memory = json.loads(self._file.read_text())

    def get(self, key: str) -> str:
        """What it was given."""
        return {"hostname": self.system.id, "address": self.address}.get(key, "")

    def memory(self) -> dict[str, str]:
        """What it remembers; `save` keeps it."""
        return self._memory

    def save(self) -> None:
        """Keep what it remembers."""
        self._file.write_text(json.dumps(self._memory, ensure_ascii=False, indent=1))

    def certificate(self) -> bytes:
        """Its key and its certificate (PEM), self-signed: the same ones every time."""
        file = self.folder / f"system-{self.system.id}.pem"
        if not file.exists():
            names = [x509.IPAddress(IPv4Address(self.address))]
            file.write_bytes(self_made(f"{self.system.id}.holm.example", names))
            file.chmod(0o600)
        return file.read_bytes()

    @property
    def _file(self) -> Path:
        return self.folder / f"system-{self.system.id}.json"


def in_file(systems: Sequence[WrittenSystem], folder: Path) -> list[Standing]:
    """The systems of a file of answers, each at an address of its own."""
    return [Standing(one, str(FIRST + number), folder) for number, one in enumerate(systems)]


class Systems:
    """They listen from `open` to `close`."""

    def __init__(self, plan: LabPlan, standing: Sequence[Standing]) -> None:
        self._plan, self.standing = plan, standing
        self._runners: list[web.AppRunner] = []

    async def open(self) -> None:
        """Listen. Raises OSError."""
        for one in self.standing:
            written = Written(one.system.answers, (), lambda _: [])
            app = web.Application()
            app.router.add_route("*", "/{path:.*}", partial(_answer, one, written))
            runner = web.AppRunner(app, access_log=None)
            await runner.setup()
            self._runners.append(runner)
            for place in one.system.ports:
                real, port = self._plan.real(one.address, place.port)
                context = shown(one.certificate()) if place.scheme == "https" else None
                await web.TCPSite(runner, real, port, ssl_context=context).start()

    async def close(self) -> None:
        """Stop listening."""
        for runner in self._runners:
            await runner.cleanup()


async def _answer(one: Standing, written: Written, request: web.Request) -> web.Response:
    answer = await written.answer(one, request, _logged_in(one.system, request))
    one.save()
    return answer


def _logged_in(system: WrittenSystem, request: web.Request) -> bool:
    try:
        given = aiohttp.BasicAuth.decode(request.headers.get("Authorization", ""))
    except ValueError:
        return False
    return (given.login, given.password) == (system.user, system.password)
