"""The lab as a process: one SSH server per stand-in host, the guests, and a small control interface
on the loopback address.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import shlex
from dataclasses import asdict, fields
from pathlib import Path
from typing import Any

import asyncssh
from aiohttp import web

from nimble_stone.lab.controllers import bmc
from nimble_stone.lab.controllers.bmc import Controller
from nimble_stone.lab.guests.room import GuestRoom
from nimble_stone.lab.hypervisor import state
from nimble_stone.lab.hypervisor.state import LabHost, Volumes
from nimble_stone.lab.hypervisor.virsh import Shell
from nimble_stone.lab.scenario.demo import PASSWORD, LabPlan
from nimble_stone.lab.shell.linux import Out

ACCOUNTS = ("root", "deploy", "guest")
"""Who may log in: root; one that may use the hypervisor but not the machine; one that may do
neither.
"""


class Throttled:
    """A command's standard input at the host's rate; can be cut after so many bytes."""

    def __init__(
        self, reader: asyncssh.SSHReader[bytes], host: LabHost, speed: float, cut: Any
    ) -> None:
        self._reader, self._host, self._speed, self._cut, self._read = reader, host, speed, cut, 0

    async def read(self, size: int = -1) -> bytes:
        """The next bytes, b'' at the end."""
        data = await self._reader.read(size)
        self._read += len(data)
        knobs = self._host.knobs
        if 0 < knobs.cut_after < self._read:
            knobs.cut_after = 0
            self._host.save()
            self._cut()
            raise ConnectionError("cut")
        if knobs.rate and len(data) > 4096:
            await asyncio.sleep(len(data) / knobs.rate / self._speed)
        return data


class _HostLogin(asyncssh.SSHServer):
    def __init__(self, host: LabHost) -> None:
        self._host = host

    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return not any(
            "PasswordAuthentication no" in text
            for path, text in self._host.ground.files.items()
            if "sshd_config.d" in path
        )

    def public_key_auth_supported(self) -> bool:
        return True

    def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
        """Keys of the account's own file."""
        known = (
            self._host.ground.files.get("/root/.ssh/authorized_keys", "")
            if username == "root"
            else ""
        )
        shown = key.export_public_key().decode().split()[:2]
        return not self._host.knobs.login_refused and any(
            line.split()[:2] == shown for line in known.splitlines()
        )

    def validate_password(self, username: str, password: str) -> bool:
        return not self._host.knobs.login_refused and username in ACCOUNTS and password == PASSWORD


class Lab:
    """All stand-ins. `open` starts listening, `close` ends it; state is in `folder`."""

    def __init__(self, plan: LabPlan, folder: Path, speed: float = 1.0) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.plan, self.folder = plan, folder
        self.volumes = Volumes(folder / "volumes")
        self.hosts = {host.name: state.load(host, folder) for host in plan.hosts}
        self.guests = GuestRoom(plan, self.volumes, speed)
        self._servers: dict[str, asyncssh.SSHAcceptor] = {}
        self._connections: dict[str, set[Any]] = {name: set() for name in self.hosts}
        self._control: web.AppRunner | None = None
        self.controllers = {
            machine.name: Controller(bmc.load(machine, folder), folder, lambda: self.guests.speed)
            for machine in plan.machines
        }

    async def open(self, control_port: int = 0) -> int:
        """Start everything; the port of the control interface."""
        await self.guests.open()
        for host in self.hosts.values():
            if not host.knobs.unreachable:
                await self._listen(host)
            for guest in host.guests.values():
                if guest.running:
                    self.guests.boot(host, guest)
        for controller in self.controllers.values():
            await self._listen_bmc(controller)
        app = web.Application()
        app.add_routes(
            [
                web.get("/lab", self._show),
                web.post("/lab/hosts/{name}", self._turn),
                web.post("/lab", self._turn_all),
            ]
        )
        self._control = web.AppRunner(app, access_log=None)
        await self._control.setup()
        site = web.TCPSite(self._control, "127.0.0.1", control_port)
        await site.start()
        port: int = self._control.addresses[0][1]
        (self.folder / "control.json").write_text(json.dumps({"port": port}))
        return port

    async def close(self) -> None:
        """End it."""
        for server in self._servers.values():
            server.close()
        await self.guests.close()
        for controller in self.controllers.values():
            bmc.save(controller.machine, self.folder)
            await controller.close()
        if self._control:
            await self._control.cleanup()

    async def _listen_bmc(self, controller: Controller) -> None:
        if not controller.machine.knobs.unreachable:
            await controller.open(*self.plan.real(controller.machine.plan.address, 443))

    def peer(self, wanted: str) -> LabHost | None:
        """A host by name or by any of its addresses."""
        if wanted in self.hosts:
            return self.hosts[wanted]
        return next(
            (
                host
                for host in self.hosts.values()
                for link in host.ground.links.values()
                for address in link.addresses
                if address.partition("/")[0] == wanted and link.kind != "loopback"
            ),
            None,
        )

    async def _listen(self, host: LabHost) -> None:
        address, port = self.plan.real(host.plan.address, 22)
        shells = {
            account: Shell(
                host, self.volumes, self.guests, lambda: self.guests.speed, self.peer, account
            )
            for account in ACCOUNTS
        }

        async def process(process: asyncssh.SSHServerProcess[bytes]) -> None:
            await self._command(
                host,
                shells[str(process.channel.get_connection().get_extra_info("username"))],
                process,
            )

        key = _host_key(
            self.folder / f"{host.plan.name}{'-second' if host.knobs.new_host_key else ''}.key"
        )
        self._servers[host.plan.name] = await asyncssh.create_server(
            lambda: _HostLogin(host),
            address,
            port,
            server_host_keys=[key],
            process_factory=process,
            encoding=None,
            reuse_address=True,
        )

    async def _command(
        self, host: LabHost, shell: Shell, process: asyncssh.SSHServerProcess[bytes]
    ) -> None:
        connection = process.channel.get_connection()
        self._connections[host.plan.name].add(connection)
        if host.knobs.slow_s:
            await asyncio.sleep(host.knobs.slow_s)
        try:
            words = shlex.split(process.command or "")
            answer = await shell.run(
                words, Throttled(process.stdin, host, self.guests.speed, connection.abort)
            )
        except ConnectionError:
            return
        except (ValueError, LookupError) as error:
            answer = Out(2, b"", f"bash: {error}")
        with contextlib.suppress(BrokenPipeError, OSError):
            process.stdout.write(answer.out)
            process.stderr.write(answer.err.encode() + b"\n" if answer.err else b"")
            process.exit(answer.status)

    # --- control ---

    async def _show(self, request: web.Request) -> web.Response:
        return web.json_response(
            {
                "speed": self.guests.speed,
                "occupied": sorted(self.guests.occupied),
                "guests": self.guests.troubles,
                "hosts": {
                    name: {
                        "knobs": asdict(host.knobs),
                        "log": host.log,
                        "guests": [guest.name for guest in host.guests.values()],
                        "volumes": sorted(
                            {
                                volume
                                for store in host.ground.stores.values()
                                for volume in self.volumes.of(store.place(name))
                            }
                        ),
                        "stores": sorted(host.ground.stores),
                        "nets": sorted(host.ground.nets),
                        "files": host.ground.files,
                        "links": sorted(host.ground.links),
                        "disks": {
                            disk.name: disk.fstype or disk.pttype
                            for disk in host.ground.disks.values()
                        },
                    }
                    for name, host in self.hosts.items()
                },
                "machines": {
                    name: {
                        "knobs": asdict(one.machine.knobs),
                        "power": one.machine.power,
                        "log": one.machine.log,
                        "image": one.machine.image,
                    }
                    for name, one in self.controllers.items()
                },
            }
        )

    async def _turn(self, request: web.Request) -> web.Response:
        controller = self.controllers.get(request.match_info["name"])
        if controller is not None:
            return await self._turn_bmc(controller, await request.json())
        host = self.hosts.get(request.match_info["name"])
        if host is None:
            return web.json_response({"reason": "no such host"}, status=404)
        return await self.turn(host, await request.json())

    async def _turn_bmc(self, controller: Controller, wanted: dict[str, Any]) -> web.Response:
        knobs = controller.machine.knobs
        known = {item.name for item in fields(knobs)}
        if unknown := set(wanted) - known:
            return web.json_response(
                {"reason": f"no knob {sorted(unknown)[0]}; there are {', '.join(sorted(known))}"},
                status=400,
            )
        for key, value in wanted.items():
            setattr(knobs, key, value)
        bmc.save(controller.machine, self.folder)
        if {"unreachable", "new_certificate"} & set(wanted):
            await controller.close()
            await self._listen_bmc(controller)
        return web.json_response(asdict(knobs))

    async def turn(self, host: LabHost, wanted: dict[str, Any]) -> web.Response:
        """Set knobs of a host; `crash` drops all its connections now."""
        known = {item.name for item in fields(state.Knobs)}
        crash = wanted.pop("crash", False)
        if unknown := set(wanted) - known:
            return web.json_response(
                {"reason": f"no knob {sorted(unknown)[0]}; there are {', '.join(sorted(known))}"},
                status=400,
            )
        for key, value in wanted.items():
            setattr(host.knobs, key, value)
        host.save()
        if (
            crash
            or "unreachable" in wanted
            or "new_host_key" in wanted
            or "login_refused" in wanted
        ):
            await self._drop(host)
            if not host.knobs.unreachable:
                await self._listen(host)
        return web.json_response(asdict(host.knobs))

    async def _drop(self, host: LabHost) -> None:
        server = self._servers.pop(host.plan.name, None)
        if server:
            server.close()
            await server.wait_closed()
        for connection in list(self._connections[host.plan.name]):
            connection.abort()
        self._connections[host.plan.name].clear()

    async def _turn_all(self, request: web.Request) -> web.Response:
        """Speed, occupied addresses, troubles of guests (by name: never-boots, never-ready, or ''
        for none).
        """
        wanted = await request.json()
        self.guests.speed = float(wanted.get("speed", self.guests.speed))
        self.guests.occupied = set(wanted.get("occupied", self.guests.occupied))
        self.guests.troubles |= wanted.get("guests", {})
        return web.json_response(
            {
                "speed": self.guests.speed,
                "occupied": sorted(self.guests.occupied),
                "guests": self.guests.troubles,
            }
        )


def _host_key(path: Path) -> asyncssh.SSHKey:
    if not path.exists():
        asyncssh.generate_private_key("ssh-ed25519").write_private_key(str(path))
        path.chmod(0o600)
    return asyncssh.read_private_key(str(path))
