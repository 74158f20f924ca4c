"""Stand-in guests: they read the config CD-ROM they were given, boot for a while, and then really
listen on their addresses.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
import hashlib
import json
import random
import shlex
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from typing import Any

import aiohttp
import asyncssh
import pycdlib
from aiohttp import web

from nimble_stone.core import shell_words
from nimble_stone.core.errors import FormatError
from nimble_stone.lab.controllers.certificate import self_made, shown
from nimble_stone.lab.guests import blank, cloud
from nimble_stone.lab.guests.answers import Answers, Listens, Node, Written
from nimble_stone.lab.guests.home import Home, Hypervisor, OnHost
from nimble_stone.lab.hypervisor.state import LabGuest, LabHost, Volumes
from nimble_stone.lab.scenario.demo import LabPlan, estate_file
from nimble_stone.lab.scenario.products import TITLES
from nimble_stone.lab.shell import several

BOOT_S, SERVICES_S = 18.0, 10.0
PORT, SECURE_PORT = 8080, 8443
LEADING = ("lead", "primary", "controller", "storage", "edge")
"""Roles whose nodes may gather others around them."""
HOSTING = ("ballast", "keelson")
"""Products whose nodes on machines are hypervisor hosts."""
USABLE = {"2": 1 / 2, "3": 1 / 3, "2+1": 2 / 3, "4+2": 2 / 3}
"""How much of the drives is left for data, by redundancy."""


@dataclass
class Running:
    """A guest that is on."""

    guest: LabGuest
    home: Home
    console: list[str] = field(default_factory=list)
    values: dict[str, str] = field(default_factory=dict)
    ready: bool = False
    failed: bool = False
    began: float = field(default_factory=time.monotonic)
    task: asyncio.Task[None] | None = None
    closers: list[Any] = field(default_factory=list)
    turn: int = 0
    label: dict[str, str] = field(default_factory=dict)
    hypervisor: Hypervisor | None = None

    @property
    def product(self) -> str:
        """The first part of its questions, such as “gauge”."""
        return next(
            (key.partition(".")[0] for key in self.values if key.endswith(".hostname")), "gauge"
        )

    def get(self, key: str) -> str:
        """What it was told, or else given for a question of its product."""
        told = self.memory().get("settings", {})
        return str(told.get(key, self.values.get(f"{self.product}.{key}", "")))

    def memory(self) -> dict[str, Any]:
        """What it remembers, on its disk."""
        found: dict[str, Any] = self.guest.data.setdefault("memory", {})
        return found

    def say(self, text: str) -> None:
        """A line on the serial console."""
        self.console.append(f"[{time.monotonic() - self.began:8.3f}] {text}")


SETTINGS = ("station", "lag", "copying")
"""What nodes can be told while they run, besides their password."""


class GuestRoom:
    """All guests of the lab."""

    def __init__(
        self, plan: LabPlan, volumes: Volumes, speed: float, answers: Answers | None = None
    ) -> None:
        """`answers`: what nodes answer instead of what the lab's products do."""
        self.plan, self.volumes, self.speed = plan, volumes, speed
        self._listens_on = answers.ports if answers else ()
        self._written = (
            Written(answers.answers, answers.commands, self._nodes_of) if answers else None
        )
        self.occupied: set[str] = set()
        self._leased: set[str] = set()
        self._gateways = {str(network.gateway) for network in estate_file(plan).networks}
        self.troubles: dict[str, str] = {}
        self._running: dict[tuple[str, str], Running] = {}
        self._by_address: dict[str, Running] = {}
        self._had: set[str] = set()
        self._runner: web.AppRunner | None = None

    async def open(self) -> None:
        """Prepare the HTTP side, which all guests share; each listens on its own address."""
        app = web.Application()
        if self._written:
            app.router.add_route("*", "/{path:.*}", self._as_written)
        else:
            app.router.add_route("*", "/cgi-bin/{what}", self._http)
        self._runner = web.AppRunner(app, access_log=None)
        await self._runner.setup()

    async def close(self) -> None:
        """Switch all off."""
        for running in list(self._running.values()):
            await self._off(running)
        if self._runner:
            await self._runner.cleanup()

    # --- power ---

    def boot(self, host: LabHost, guest: LabGuest) -> None:
        """Switch a guest on."""
        if not guest.bedrock:
            self.start(OnHost(host, self.volumes), guest)

    def start(self, home: Home, guest: LabGuest) -> None:
        """Switch a node on, wherever it lives."""
        running = Running(guest, home)
        self._running[(home.place, guest.name)] = running
        running.task = asyncio.create_task(self._life(running))

    def halt(self, host: LabHost, guest: LabGuest) -> None:
        """Pull the plug."""
        self.stop(host.plan.name, guest.name)

    def stop(self, place: str, name: str) -> None:
        """Pull the plug of a node, wherever it lives."""
        running = self._running.pop((place, name), None)
        if running:
            asyncio.get_running_loop().create_task(self._off(running))

    async def _off(self, running: Running) -> None:
        if running.task:
            running.task.cancel()
        for closer in running.closers:
            with contextlib.suppress(Exception):
                await closer()
        running.closers.clear()
        self._by_address = {
            address: other for address, other in self._by_address.items() if other is not running
        }

    def answers(self, address: str) -> bool:
        """Whether anybody answers a ping there: guests that are up, gateways, and what a knob says
        is occupied.
        """
        return address in self._by_address or address in self.occupied or address in self._gateways

    async def takes(self, address: str, port: int) -> bool | None:
        """Whether a guest takes connections on a port; None for an address that no guest has
        or had.
        """
        if address in self._by_address:
            return await several.connects(*self.plan.real(address, port))
        return False if address in self._had else None

    async def several(self, command: str) -> list[str]:
        """The marks of the questions that succeed: see lab/shell/several.py."""
        return await several.marks(command, self.answers, self.plan.real)

    def console(self, host: LabHost, name: str) -> str:
        """The serial console so far."""
        running = self._running.get((host.plan.name, name))
        return "\n".join(running.console) if running else ""

    async def _wait(self, seconds: float) -> None:
        await asyncio.sleep(seconds / self.speed)

    async def _life(self, running: Running) -> None:
        guest, name = running.guest, running.guest.name
        rng = random.Random(name)
        running.say("Linux version 6.1.0-cloud-amd64 (stand-in) booting")
        trouble = self.troubles.get(name, "")
        for text in (
            "virtio_blk virtio0: [vda] disk found",
            "EXT4-fs (vda1): mounted filesystem",
            "gauge: looking for a config medium",
        ):
            await self._wait(BOOT_S / 4 * rng.uniform(0.8, 1.2))
            running.say(text)
        if trouble == "never-boots":
            running.say("Kernel panic - not syncing: no root file system")
            return
        try:
            if not await self._has_system(running, trouble):
                return
            running.values = await running.home.values(guest)
        except (
            FormatError,
            LookupError,
            OSError,
            aiohttp.ClientError,
            pycdlib.pycdlibexception.PyCdlibException,
        ) as error:
            running.say(f"{running.product}: no usable config medium: {error}")
            return
        running.label = running.home.label(guest)
        running.say(f"{running.product}: name {running.get('hostname')}")
        address = running.get("address") or await self._lease(running)
        if not address:
            running.say(f"{running.product}: nobody answers DHCP")
            return
        running.say(
            f"{running.product}: address {address}/{running.get('prefix')} gateway"
            f" {running.get('gateway')}"
        )
        await self._wait(BOOT_S / 4)
        if not await self._listen(running, address):
            return
        self._listens(running)
        if guest.data.get("virtual"):
            await self._answer_for(running, guest.data["virtual"])
        for text in (
            "gauge: creating the reading store",
            "gauge: reading store is empty, laying out 16 shards",
        ):
            await self._wait(SERVICES_S / 2 * rng.uniform(0.8, 1.2))
            running.say(text)
        running.failed = trouble == "fails"
        if trouble in ("never-ready", "fails"):
            running.say("gauge: waiting for the reading store …")
            return
        await self._found_again(running)
        running.ready = True
        running.say(f"{running.product}: services are up")

    async def _found_again(self, running: Running) -> None:
        """Nodes that have joined make themselves known to a lead that has lost its register."""
        data = running.guest.data
        if running.get("role") not in LEADING or data.get("members"):
            return
        mine = [
            other
            for other in self._by_address.values()
            if other.guest.data.get("lead") == running.get("address")
        ]
        if mine:
            data["members"] = {
                other.get("hostname"): {
                    key: other.get("hostname" if key == "name" else key)
                    for key in ("name", "role", "address")
                }
                for other in mine
            }
            data["formed"] = True
            running.home.save()
            if running.product in HOSTING:
                self._offer_storage(running)
            if virtual := running.get("virtual"):
                data["virtual"] = virtual
                await self._answer_for(running, virtual)

    async def _has_system(self, running: Running, trouble: str) -> bool:
        """Whether it has a system to start; a blank guest is installed first, from its media."""
        guest = running.guest
        images = running.home.media(guest)
        if images:
            said = await blank.install(guest, images, trouble, lambda: self.speed)
            running.say(f"installer: {said}")
            running.home.save()
        return guest.running and (not images or bool(guest.data.get("installed")))

    def _listens(self, running: Running) -> None:
        """What is on the console once it answers: a plain server writes its host keys there."""
        if running.product == cloud.PRODUCT:
            running.console += cloud.console_block(_own_key(running).export_public_key())
        else:
            running.say(f"{running.product}: listening on port {PORT}")

    async def _lease(self, running: Running) -> str:
        """Ask by DHCP: the network's next free dynamic address, the same one again after a restart.
        '' where nobody answers.
        """
        await self._wait(BOOT_S / 6)
        name = running.home.network(running.guest)
        network = next((one for one in estate_file(self.plan).networks if one.name == name), None)
        if network is None or network.dynamic_first is None or network.dynamic_last is None:
            return ""
        if not running.guest.data.get("lease"):
            span = range(int(network.dynamic_first), int(network.dynamic_last) + 1)
            address = next(
                (
                    text
                    for number in span
                    if (text := str(IPv4Address(number))) not in self._leased
                    and not self.answers(text)
                ),
                "",
            )
            if not address:
                return ""
            running.guest.data["lease"] = f"{address}/{network.subnet.prefixlen}"
            running.home.save()
        address = str(running.guest.data["lease"]).partition("/")[0]
        self._leased.add(address)
        running.values |= {
            f"{running.product}.address": address,
            f"{running.product}.prefix": str(network.subnet.prefixlen),
        }
        running.say(f"{running.product}: lease of {address} obtained")
        return address

    async def _listen(self, running: Running, address: str) -> bool:
        try:
            assert self._runner is not None  # set by open()
            for one in self._ports(running):
                real, port = self.plan.real(address, one.port)
                own = one.scheme == "https"
                context = shown(self_made(running.get("hostname"))) if own else None
                site = web.TCPSite(self._runner, real, port, ssl_context=context)
                await site.start()
                running.closers.append(site.stop)
            if running.get("certificate"):
                secure = web.TCPSite(
                    self._runner,
                    *self.plan.real(address, SECURE_PORT),
                    ssl_context=shown(
                        f"{running.get('certificate')}\n{running.get('key')}".encode()
                    ),
                )
                await secure.start()
                running.closers.append(secure.stop)
                running.say(f"{running.product}: showing its certificate on port {SECURE_PORT}")
            ssh = await self._listen_ssh(running, address)

            async def stop() -> None:
                ssh.close()

            running.closers.append(stop)
        except (OSError, ValueError) as error:
            running.say(f"{running.product}: cannot use address {address}: {error}")
            return False
        self._by_address[address] = running
        self._had.add(address)
        return True

    def _ports(self, running: Running) -> Sequence[Listens]:
        """Where it answers requests."""
        if self._written:
            return self._listens_on
        return () if running.product == cloud.PRODUCT else (Listens(port=PORT),)

    def _nodes_of(self, role: str) -> list[Node]:
        """Nodes of a role that are up, “” all, each once, in the order of their names."""
        up = {running.guest.name: running for running in self._by_address.values()}
        return [up[name] for name in sorted(up) if role in ("", up[name].get("role"))]

    async def _as_written(self, request: web.Request) -> web.Response:
        running = self._asked(request)
        if running is None or self._written is None or not running.ready:
            return web.Response(status=503)
        login = _logged_in(request, running)
        answer = await self._written.answer(running, request, login)
        running.home.save()
        return answer

    async def _listen_ssh(self, running: Running, address: str) -> asyncssh.SSHAcceptor:
        """Its own few commands, or those of a hypervisor host where it is one."""
        place, keys = self.plan.real(address, 22), [self._shown_key(running)]
        if running.product in HOSTING:
            running.hypervisor = running.home.hypervisor(
                running.get("hostname"),
                address,
                running.get("admin_password"),
                running.get("drives"),
            )
        host = running.hypervisor
        if host is not None and running.product == "keelson":
            host.offer("local", "", host.data_bytes)
        if host is None:
            return await asyncssh.create_server(
                lambda: _Login(running), *place, server_host_keys=keys, process_factory=self._shell
            )
        return await asyncssh.create_server(
            host.login, *place, server_host_keys=keys, process_factory=host.process, encoding=None
        )

    def _shown_key(self, running: Running) -> asyncssh.SSHKey:
        """Its host key, or another one, as after somebody set its SSH up anew."""
        other = self.troubles.get(running.guest.name) == "other-key"
        return _own_key(running, "other_key" if other else "host_key")

    # --- what a guest understands ---

    async def _shell(self, process: asyncssh.SSHServerProcess[str]) -> None:
        words = _words(process.command or "")
        told = None
        if self._written:
            running = process.get_extra_info("guest")
            asked = process.command or ""
            if asked == "sh":
                # one that is too long to be sent as a command
                asked = shell_words.of_input(await process.stdin.read())
            told = self._written.command(running, asked)
            running.home.save()
        if told is not None:
            process.stdout.write(told[1])
            process.exit(told[0])
        elif words[:1] == ["ping"] and len(words) > 1:
            good = self.answers(words[-1])
            process.stdout.write(
                f"PING {words[-1]}: {'1 packets received' if good else '0 packets received'}\n"
            )
            process.exit(0 if good else 1)
        elif several.is_several(process.command or ""):
            for mark in await self.several(process.command or ""):
                process.stdout.write(f"{mark}\n")
            process.exit(0)
        elif (
            words[:2] == ["edge", "watch"]
            and len(words) == 3
            and words[2] in ("nothing", "known", "everything")
        ):
            running = process.get_extra_info("guest")
            running.guest.data["watch"] = words[2]
            running.home.save()
            running.say(f"edge: watching, lets {words[2]} through")
            process.stdout.write("watching\n")
            process.exit(0)
        elif self._written is not None or _is_image(process):
            self._as_image(process, words)
        elif words == ["edge", "status"]:
            process.stdout.write(
                "watching\n"
                if process.get_extra_info("guest").guest.data.get("watch")
                else "asleep\n"
            )
            process.exit(0)
        else:
            process.stderr.write("sh: not found\n")
            process.exit(127)

    def _as_image(self, process: asyncssh.SSHServerProcess[str], words: list[str]) -> None:
        """The commands of a plain server."""
        running: Running = process.get_extra_info("guest")
        if words[:2] == ["cloud-init", "status"]:
            state = "done" if running.ready else "running"
            state = "error" if running.failed else state
            errors = ["runcmd: exit code 1"] if running.failed else []
            process.stdout.write(json.dumps({"status": state, "errors": errors}) + "\n")
            process.exit(1 if running.failed else 0)
        elif words[:1] == ["hostname;"] or words[:1] == ["hostname"]:
            address = f"{running.get('address')}/{running.get('prefix')}"
            process.stdout.write(f"{running.get('hostname')}\n{time.time()}\n{address}\n")
            process.exit(0)
        else:
            process.stderr.write("bash: command not found\n")
            process.exit(127)

    def _asked(self, request: web.Request) -> Running | None:
        """Whose address a request came to."""
        where = request.transport.get_extra_info("sockname")[0] if request.transport else ""
        for address, other in self._by_address.items():
            if self.plan.real(address, PORT)[0] == where:
                return None if other.guest.paused else other
        return None

    async def _http(self, request: web.Request) -> web.Response:
        where = request.transport.get_extra_info("sockname")[0] if request.transport else ""
        running = self._asked(request)
        if running is None:
            return web.Response(status=503)
        what = request.match_info["what"]
        if (
            what == "status"
            and running.guest.data.get("balanced")
            and where == self.plan.real(running.guest.data["virtual"], PORT)[0]
        ):
            running = self._next_of(running)
        open_to_all = {("GET", "status"), ("GET", "members"), ("POST", "member")}
        if (request.method, what) not in open_to_all and not _logged_in(request, running):
            return web.json_response({"reason": "login refused"}, status=401)
        handler = getattr(self, f"h_{request.method.lower()}_{what}", None)
        if handler is None:
            return web.json_response({"reason": "no such thing"}, status=404)
        try:
            body = await request.json() if request.method == "POST" else dict(request.query)
        except ValueError:
            return web.json_response({"reason": "not JSON"}, status=400)
        answer: web.Response = await handler(running, body)
        return answer

    def _next_of(self, running: Running) -> Running:
        """Whose turn it is behind a virtual address; members that are down are passed over."""
        members = [address.partition(":")[0] for address in running.guest.data["balanced"].split()]
        there = [self._by_address[address] for address in members if address in self._by_address]
        running.turn += 1
        return there[running.turn % len(there)] if there else running

    async def h_get_status(self, running: Running, body: dict[str, str]) -> web.Response:
        """How the node is."""
        title, version = TITLES.get(running.product, TITLES["gauge"])
        label = running.label
        extra = {}
        if running.product == "tidebook":
            extra["licence"] = "known" if running.get("licence") else "trial"
        if running.get("address6"):
            extra["address6"] = f"{running.get('address6')}/{running.get('prefix6')}"
        return web.json_response(
            {
                "product": label.get("product", title),
                "version": label.get("version", version),
                "name": running.get("hostname"),
                "role": running.get("role"),
                "roles": running.get("roles") or running.get("role"),
                "address": f"{running.get('address')}/{running.get('prefix')}",
                **extra,
                "time": time.time(),
                "state": "ready" if running.ready else "installing",
            }
        )

    async def h_get_token(self, running: Running, body: dict[str, str]) -> web.Response:
        """The lead's join token."""
        if running.get("role") not in LEADING:
            return web.json_response({"reason": f"only a {LEADING[0]} has a token"}, status=409)
        return web.json_response({"token": _token(running)})

    async def h_get_join(self, running: Running, body: dict[str, str]) -> web.Response:
        """Whether this node has joined."""
        return web.json_response({"joined": "yes" if running.guest.data.get("lead") else "no"})

    async def h_post_join(self, running: Running, body: dict[str, str]) -> web.Response:
        """Join a lead: ask it over the network, with the token."""
        real, port = self.plan.real(str(body.get("lead")), PORT)
        member = {
            "name": running.get("hostname"),
            "role": running.get("role"),
            "address": running.get("address"),
            "token": str(body.get("token")),
        }
        try:
            async with (
                aiohttp.ClientSession() as session,
                session.post(f"http://{real}:{port}/cgi-bin/member", json=member) as answer,
            ):
                taken = answer.status == 200
        except aiohttp.ClientError as error:
            return web.json_response({"reason": f"the lead does not answer: {error}"}, status=502)
        if not taken:
            return web.json_response({"reason": "the lead refuses the token"}, status=403)
        running.guest.data["lead"] = str(body.get("lead"))
        running.home.save()
        running.say(f"{running.product}: joined {body.get('lead')}")
        return web.json_response({"joined": "yes"})

    async def h_post_member(self, running: Running, body: dict[str, str]) -> web.Response:
        """A node asks to be let in."""
        if body.get("token") != _token(running):
            return web.json_response({"reason": "wrong token"}, status=403)
        running.guest.data.setdefault("members", {})[str(body.get("name"))] = {
            "name": body.get("name"),
            "role": body.get("role"),
            "address": body.get("address"),
        }
        running.home.save()
        running.say(f"{running.product}: {body.get('name')} is in")
        if running.guest.data.get("formed") and running.product in HOSTING:
            # who joins a cluster that stands has its storage at once
            self._offer_storage(running)
        return web.json_response({"taken": "yes"})

    async def h_get_leave(self, running: Running, body: dict[str, str]) -> web.Response:
        """Whether a node is in no longer."""
        there = str(body.get("name")) in running.guest.data.get("members", {})
        return web.json_response({"left": "no" if there else "yes"})

    async def h_post_leave(self, running: Running, body: dict[str, str]) -> web.Response:
        """Let a node go: at once, or when its readings are copied, which takes `drain` seconds, or
        as long as the world lasts where that is “never”. Its first `busy` askers are told to come
        later.
        """
        asked = running.memory().setdefault("asked", {})
        name = str(body.get("name"))
        asked[name] = asked.get(name, 0) + 1
        if asked[name] <= int(body.get("busy") or 0):
            return web.json_response({"reason": "another change settles"}, status=503)
        drain = str(body.get("drain", ""))
        if drain == "never":
            return web.json_response({"left": "no"})
        if drain:
            asyncio.get_running_loop().call_later(
                float(drain), self._gone, running, str(body.get("name"))
            )
            return web.json_response({"left": "no"})
        self._gone(running, str(body.get("name")))
        return web.json_response({"left": "yes"})

    def _gone(self, running: Running, name: str) -> None:
        running.guest.data.get("members", {}).pop(name, None)
        running.home.save()
        running.say(f"{running.product}: {name} has left")

    def _members(self, running: Running) -> list[dict[str, str]]:
        own = {
            "name": running.get("hostname"),
            "role": running.get("role"),
            "address": running.get("address"),
        }
        return [own, *running.guest.data.get("members", {}).values()]

    async def h_get_members(self, running: Running, body: dict[str, str]) -> web.Response:
        """Who is in."""
        return web.json_response({"members": self._members(running)})

    async def h_get_form(self, running: Running, body: dict[str, str]) -> web.Response:
        """Whether the cluster was formed."""
        return web.json_response({"formed": "yes" if running.guest.data.get("formed") else "no"})

    async def h_post_form(self, running: Running, body: dict[str, str]) -> web.Response:
        """Form the cluster once all are in."""
        have = len(self._members(running))
        if str(have) != str(body.get("members")):
            return web.json_response(
                {"reason": f"{have} of {body.get('members')} members are in"}, status=409
            )
        virtual = str(body.get("virtual") or "")
        if virtual and not await self._answer_for(running, virtual):
            return web.json_response(
                {"reason": f"the virtual address {virtual} cannot be used"}, status=409
            )
        running.guest.data["formed"] = True
        running.guest.data["virtual"] = virtual
        running.guest.data["balanced"] = str(body.get("balanced") or "")
        running.home.save()
        self._offer_storage(running)
        running.say(f"{running.product}: cluster of {have} formed")
        return web.json_response({"formed": "yes"})

    def _offer_storage(self, running: Running) -> None:
        """What the members' drives hold, less copies or parity, becomes a datastore on each."""
        there = [self._by_address.get(one["address"]) for one in self._members(running)]
        hosts = [one.hypervisor for one in there if one is not None and one.hypervisor]
        usable = sum(one.data_bytes for one in hosts) * USABLE.get(running.get("copies"), 0.5)
        for host in hosts:
            share = f"{running.get('hostname')}.holm.example:/{running.product}"
            host.offer(running.product, share, int(usable))

    async def _answer_for(self, running: Running, virtual: str) -> bool:
        """Let a node answer on the cluster's virtual address too."""
        if self._by_address.get(virtual) is running:
            return True
        if self.answers(virtual):
            return False
        try:
            # set by open()
            site = web.TCPSite(self._runner, *self.plan.real(virtual, PORT))  # type: ignore[arg-type]
            await site.start()
        except (OSError, ValueError):
            return False
        running.closers.append(site.stop)
        self._by_address[virtual] = running
        running.say(f"{running.product}: answering on {virtual} for the cluster")
        return True

    async def h_get_entry(self, running: Running, body: dict[str, str]) -> web.Response:
        """What was written under a key, by whichever member; without a key: all keys."""
        entries = running.guest.data.get("entries", {})
        if "key" not in body:
            return web.json_response({"keys": sorted(entries)})
        value = entries.get(str(body["key"]))
        if value is None:
            return web.json_response({"reason": "no such entry"}, status=404)
        digest = hashlib.sha256(value.encode()).hexdigest()
        return web.json_response({"value": value, "digest": digest})

    async def h_post_entry(self, running: Running, body: dict[str, str]) -> web.Response:
        """Write under a key, on every member; without a value: forget it."""
        key, value = str(body.get("key"))[:80], body.get("value")
        for one in self._members(running):
            member = self._by_address.get(str(one["address"]))
            if member is None:
                continue
            entries = member.guest.data.setdefault("entries", {})
            entries.pop(key, None)
            if value is not None:
                entries[key] = str(value)[:4096]
            member.home.save()
        digest = hashlib.sha256(str(value or "").encode()).hexdigest()
        return web.json_response({"written": "yes", "digest": digest})

    async def h_get_settings(self, running: Running, body: dict[str, str]) -> web.Response:
        """Settings that can be told, without secrets."""
        told = {key: running.get(key) for key in SETTINGS}
        return web.json_response({"name": running.get("hostname"), **told})

    async def h_post_settings(self, running: Running, body: dict[str, str]) -> web.Response:
        """Other settings from now on."""
        unknown = set(body) - {*SETTINGS, "admin_password"}
        if unknown:
            return web.json_response({"reason": f"no setting {sorted(unknown)[0]}"}, status=422)
        running.memory().setdefault("settings", {}).update(
            {key: str(text)[:1000] for key, text in body.items()}
        )
        running.home.save()
        running.say(f"{running.product}: told {', '.join(sorted(body))}")
        return web.json_response({"taken": "yes"})

    async def h_get_cluster(self, running: Running, body: dict[str, str]) -> web.Response:
        """The cluster's identity, once it is formed."""
        if not running.guest.data.get("formed"):
            return web.json_response({"reason": "the cluster is not formed yet"}, status=409)
        return web.json_response(
            {
                "cluster": hashlib.sha256(running.guest.uuid.encode()).hexdigest()[:16],
                "formed": "yes",
            }
        )


class _Login(asyncssh.SSHServer):
    """SSH into a guest, as its administrator."""

    def __init__(self, running: Running) -> None:
        self._running = running

    def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
        conn.set_extra_info(guest=self._running)

        async def cut() -> None:
            conn.abort()

        self._running.closers.append(cut)

    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return True

    def public_key_auth_supported(self) -> bool:
        return bool(self._running.get("keys"))

    def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
        for line in self._running.get("keys").splitlines():
            with contextlib.suppress(asyncssh.KeyImportError):
                if line.strip() and username == "admin" and asyncssh.import_public_key(line) == key:
                    return True
        return False

    def validate_password(self, username: str, password: str) -> bool:
        running = self._running
        if running.product == cloud.PRODUCT:
            return cloud.lets_in(running.values, username, password)
        known = running.get("admin") or "admin"
        return username == known and password == running.get("admin_password")


def _words(command: str) -> list[str]:
    """The words of a command as a POSIX shell would take them; none where its quotes do not
    close.
    """
    try:
        return shlex.split(command)
    except ValueError:
        return []


def _own_key(running: Running, which: str = "host_key") -> asyncssh.SSHKey:
    """The guest's own host key: made at its first boot, kept on its disk."""
    data = running.guest.data
    if which not in data:
        data[which] = asyncssh.generate_private_key("ssh-ed25519").export_private_key().decode()
        running.home.save()
    return asyncssh.import_private_key(data[which])


def _is_image(process: asyncssh.SSHServerProcess[str]) -> bool:
    return bool(process.get_extra_info("guest").product == cloud.PRODUCT)


def _logged_in(request: web.Request, running: Running) -> bool:
    kind, _, value = request.headers.get("Authorization", "").partition(" ")
    user = running.get("admin") or "admin"
    wanted = base64.b64encode(f"{user}:{running.get('admin_password')}".encode()).decode()
    return (kind, value) in (("Basic", wanted), ("Bearer", _token(running)))


def _token(running: Running) -> str:
    return hashlib.sha256(
        f"{running.guest.uuid}:{running.get('admin_password')}".encode()
    ).hexdigest()[:32]
