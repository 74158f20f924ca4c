"""The lab as a process: one SSH server per stand-in host, the guests, and a small control interface
on the loopback address.
"""

from __future__ import annotations

import json
from dataclasses import asdict, fields
from pathlib import Path
from typing import Any

import asyncssh
from aiohttp import web

from nimble_stone.lab import name_server
from nimble_stone.lab.controllers import habits, machine
from nimble_stone.lab.controllers.bmc import Controller
from nimble_stone.lab.controllers.built_host import BuiltHost
from nimble_stone.lab.controllers.installed import Installed, Wanted
from nimble_stone.lab.controllers.stand_in import StandIn
from nimble_stone.lab.guests.answers import Answers
from nimble_stone.lab.guests.room import GuestRoom
from nimble_stone.lab.hypervisor import state
from nimble_stone.lab.hypervisor.door import ACCOUNTS, HostDoor, host_key
from nimble_stone.lab.hypervisor.ground import built_disks
from nimble_stone.lab.hypervisor.state import LabHost, Volumes
from nimble_stone.lab.scenario import watch
from nimble_stone.lab.scenario.demo import HostPlan, LabPlan, MachinePlan
from nimble_stone.lab.systems import Systems, in_file


class Lab:
    """All stand-ins. `open` starts listening, `close` ends it; state is in `folder`."""

    def __init__(
        self, plan: LabPlan, folder: Path, speed: float = 1.0, answers: Answers | None = None
    ) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.plan, self.folder = plan, folder
        self.volumes = Volumes(folder / "volumes")
        self.hosts = {host.name: state.load(host, folder) for host in plan.hosts}
        self.guests = GuestRoom(plan, self.volumes, speed, answers)
        self._servers: dict[str, asyncssh.SSHAcceptor] = {}
        self._doors = {name: self._door(host) for name, host in self.hosts.items()}
        self._control: web.AppRunner | None = None
        self.names = name_server.NameServer(folder / "names.json")
        outside = in_file(answers.systems, folder) if answers else [watch.standing(folder)]
        self.systems = Systems(plan, outside)
        self._installed: dict[str, Installed] = {}
        self.controllers = {one.name: self._controller(one) for one in plan.machines}

    def _controller(self, plan: MachinePlan) -> Controller:
        known = machine.load(plan, self.folder)
        installed = Installed(
            known, self.guests, lambda one: machine.save(one, self.folder), self.build
        )
        self._installed[plan.name] = installed
        box = StandIn(self._speed, installed)
        return Controller(known, self.folder, self._speed, box)

    def _speed(self) -> float:
        return self.guests.speed

    async def open(self, control_port: int = 0) -> int:
        """Start everything; the port of the control interface."""
        await self.guests.open()
        for address in (name_server.ADDRESS, name_server.OTHER):
            await self.names.open(*self.plan.real(address, name_server.PORT))
        await self.systems.open()
        for host in self.hosts.values():
            if not host.knobs.unreachable:
                await self._listen(host)
            for guest in host.guests.values():
                if guest.running:
                    self.guests.boot(host, guest)
        for name, controller in self.controllers.items():
            await self._listen_bmc(controller)
            if controller.machine.power == "On":
                self._installed[name].boot()
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
        await self.names.close()
        await self.systems.close()
        for controller in self.controllers.values():
            machine.save(controller.machine, self.folder)
            await controller.close()
            await controller.power.close()
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

    def _door(self, host: LabHost, **more: Any) -> HostDoor:
        return HostDoor(host, self.volumes, self.guests, self._speed, self.peer, **more)

    async def _listen(self, host: LabHost) -> None:
        address, port = self.plan.real(host.plan.address, 22)
        door = self._doors[host.plan.name]
        key = host_key(
            self.folder / f"{host.plan.name}{'-second' if host.knobs.new_host_key else ''}.key"
        )
        self._servers[host.plan.name] = await asyncssh.create_server(
            door.login,
            address,
            port,
            server_host_keys=[key],
            process_factory=door.process,
            encoding=None,
            reuse_address=True,
        )

    def build(self, wanted: Wanted) -> BuiltHost:
        """A host from a machine: as it was left, or new."""
        one = wanted.machine.plan
        stated = HostPlan(
            wanted.name,
            wanted.address,
            one.site,
            one.bay,
            one.memory_bytes,
            one.cores * 2,
            (),
            (),
            wanted.networks,
        )
        if wanted.new:
            (self.folder / f"{wanted.name}.json").unlink(missing_ok=True)
        host = state.load(stated, self.folder)
        if wanted.new:
            system = next(iter(wanted.machine.written), "")
            host.ground.disks = built_disks(
                wanted.machine.drives, one.drive_bytes, system, wanted.data
            )
            host.save()
        self.hosts[host.plan.name] = host
        door = self._door(host, password=wanted.password, accounts=ACCOUNTS | {"admin": "deploy"})
        self._doors[host.plan.name] = door
        return BuiltHost(host, door, self.guests, len(wanted.data) * one.drive_bytes)

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
                "names": self.names.records,
                "systems": {one.system.id: one.memory() for one in self.systems.standing},
                "machines": {
                    name: {
                        "knobs": asdict(one.machine.knobs),
                        "power": one.machine.power,
                        "log": one.machine.log,
                        "image": one.machine.image,
                        "second": one.machine.second,
                        "boot": one.machine.boot,
                        "answers": one.answers,
                        "written": one.machine.written,
                        "wiped": one.machine.wiped,
                        "fetched": one.machine.fetched,
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
        if kind := wanted.pop("power", ""):
            # somebody at the machine itself
            controller.power.request(str(kind))
        if unknown := set(wanted) - known:
            return web.json_response(
                {"reason": f"no knob {sorted(unknown)[0]}; there are {', '.join(sorted(known))}"},
                status=400,
            )
        if odd := habits.unknown(list(wanted.get("habits", ()))):
            return web.json_response(
                {"reason": f"no habit {odd[0]}; there are {', '.join(habits.HABITS)}"}, status=400
            )
        for key, value in wanted.items():
            setattr(knobs, key, value)
        machine.save(controller.machine, self.folder)
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
        self._doors[host.plan.name].drop()

    async def _turn_all(self, request: web.Request) -> web.Response:
        """Speed, occupied addresses, troubles of guests (by name: never-boots, never-ready,
        other-key, or '' for none).
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
