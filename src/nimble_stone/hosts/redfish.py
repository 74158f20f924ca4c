"""A bare machine through its management controller, by Redfish (DSP0266) over pinned HTTPS.

Controllers leave members out, answer slowly and lie about sizes: whatever is missing is noted as
missing, links are followed only
on the controller itself and only so many, and every answer is bounded.
"""

from __future__ import annotations

import asyncio
import contextlib
from base64 import b64encode
from dataclasses import dataclass, field
from typing import Any

from nimble_stone.core.errors import LoginRefused, RemoteFailed, StoneError
from nimble_stone.core.estate import Drive, Firmware, MachineFacts, MediaSlot, Nic, Processor
from nimble_stone.reach.https import HttpsPeer, JsonAnswer

ROOT = "/redfish/v1/"
MOST = 64
KINDS_OF_RESET = (
    "On",
    "ForceOff",
    "GracefulShutdown",
    "ForceRestart",
    "GracefulRestart",
    "PowerCycle",
)


@dataclass
class RedfishMachine:
    """One controller, logged in for as long as the context lasts."""

    name: str
    peer: HttpsPeer
    user: str
    password: str = field(repr=False)
    certificate: str = ""
    _headers: dict[str, str] = field(default_factory=dict, repr=False)
    _session: str = ""

    async def root(self) -> dict[str, Any]:
        """The service root, which needs no login. Raises RemoteFailed when it is none."""
        answer = await self.peer.ask("GET", ROOT)
        if answer.status != 200 or "RedfishVersion" not in answer.data:
            words = (
                "it is restarting (status 503)"
                if answer.status == 503
                else f"what answers there is no Redfish service (status {answer.status})"
            )
            raise RemoteFailed(
                f"{self.name}: {words}",
                target=self.name,
                operation=f"GET {ROOT}",
                hint="See whether the address is that of its controller.",
            )
        return answer.data

    async def log_in(self) -> None:
        """Open a session; where the service has none, every request carries the login. Raises
        LoginRefused.
        """
        answer = await self.peer.ask(
            "POST",
            f"{ROOT}SessionService/Sessions",
            body={"UserName": self.user, "Password": self.password},
        )
        token = answer.headers.get("x-auth-token", "")
        if answer.status in (200, 201) and token:
            self._headers = {"X-Auth-Token": token}
            location = answer.headers.get("location", "") or str(answer.data.get("@odata.id", ""))
            self._session = (
                "/" + location.split("://", 1)[-1].split("/", 1)[-1]
                if "/redfish/" in location
                else ""
            )
            return
        if answer.status in (404, 405, 501):
            self._headers = {
                "Authorization": (
                    "Basic " + b64encode(f"{self.user}:{self.password}".encode()).decode()
                )
            }
            answer = await self.peer.ask("GET", f"{ROOT}Systems", headers=self._headers)
            if answer.status == 200:
                return
        if answer.status in (400, 401, 403):
            raise LoginRefused(
                f"{self.name} rejected the login for “{self.user}”",
                target=self.name,
                operation="login",
                hint="Correct the credential in the keyring.",
            )
        raise RemoteFailed(
            f"{self.name}: logging in is answered with status {answer.status}",
            target=self.name,
            operation="login",
            hint="The controller may be restarting. Try again in 1 minute.",
        )

    async def log_out(self) -> None:
        """Give the session back: controllers have few of them."""
        if self._session:
            await self.peer.ask("DELETE", self._session, headers=self._headers)
            self._session = ""

    async def get(self, path: str) -> dict[str, Any] | None:
        """A resource, None when there is none. Raises RemoteFailed for other answers."""
        if not path.startswith("/redfish/") or "//" in path or ".." in path:
            raise RemoteFailed(
                f"{self.name} leads on to “{path[:80]}”, which is not on the controller",
                target=self.name,
                operation="GET",
                hint="Report it to the controller's maker.",
            )
        answer = await self.peer.ask("GET", path, headers=self._headers)
        if answer.status in (404, 405, 501):
            return None
        if answer.status != 200:
            raise RemoteFailed(
                f"{self.name}: GET {path} is answered with status {answer.status}",
                target=self.name,
                operation=f"GET {path}",
                hint=_said(answer) or "Read it again in a minute.",
            )
        return answer.data

    async def linked(self, data: dict[str, Any], member: str) -> dict[str, Any] | None:
        """The resource behind a link."""
        link = data.get(member)
        path = link.get("@odata.id") if isinstance(link, dict) else None
        return await self.get(path) if isinstance(path, str) else None

    async def members(self, data: dict[str, Any] | None) -> list[dict[str, Any]]:
        """The members of a collection, read one after the other: controllers are small. At
        most 64.
        """
        links = data.get("Members") if data else None
        paths = (
            [
                item["@odata.id"]
                for item in links
                if isinstance(item, dict) and isinstance(item.get("@odata.id"), str)
            ]
            if isinstance(links, list)
            else []
        )
        found = []
        for path in paths[:MOST]:
            one = await self.get(path)
            if one is not None:
                found.append(one)
        return found

    async def read_facts(self, now: float) -> MachineFacts:
        """Everything the controller says of its machine. Raises RemoteError."""
        root = await self.root()
        await self.log_in()
        try:
            return await self._read(now, root)
        finally:
            await self._leave()

    async def _leave(self) -> None:
        # it forgets the session by itself; what was read counts
        with contextlib.suppress(StoneError):
            await self.log_out()

    async def _read(self, now: float, root: dict[str, Any]) -> MachineFacts:
        system = await self._system(root)
        missing: list[str] = []
        chassis = _first(await self.members(await self.linked(root, "Chassis")))
        manager = _first(await self.members(await self.linked(root, "Managers")))
        processors = await self.members(await self.linked(system, "Processors"))
        nics = await self.members(await self.linked(system, "EthernetInterfaces"))
        drives = []
        for storage in await self.members(await self.linked(system, "Storage")):
            for link in [item for item in storage.get("Drives", []) if isinstance(item, dict)][
                :MOST
            ]:
                drive = await self.get(str(link.get("@odata.id", "")))
                if drive is not None:
                    drives.append(drive)
        media = await self.members(await self.linked(manager, "VirtualMedia")) if manager else []
        if not media:
            media = await self.members(await self.linked(system, "VirtualMedia"))
        firmware = await self._firmware(root, system, manager)
        for name, there in (
            ("processors", processors),
            ("drives", drives),
            ("network adapters", nics),
            ("virtual media", media),
            ("memory", _at(system, "MemorySummary", "TotalSystemMemoryGiB")),
            ("health", _at(system, "Status", "Health")),
            ("boot options", _at(system, "Boot")),
            ("chassis", chassis),
        ):
            if not there:
                missing.append(name)
        return MachineFacts(
            machine=self.name,
            read_at=now,
            tried_at=now,
            system=_text(system, "@odata.id"),
            maker=_text(system, "Manufacturer") or _text(chassis, "Manufacturer"),
            model=_text(system, "Model") or _text(chassis, "Model"),
            serial=_text(system, "SerialNumber") or _text(chassis, "SerialNumber"),
            uuid=_text(system, "UUID"),
            power=_text(system, "PowerState"),
            health=str(_at(system, "Status", "Health") or "")[:40],
            memory_bytes=int(
                _number(_at(system, "MemorySummary", "TotalSystemMemoryGiB")) * (1 << 30)
            ),
            processors=tuple(
                Processor(
                    model=_text(p, "Model"),
                    cores=int(_number(p.get("TotalCores"))),
                    threads=int(_number(p.get("TotalThreads"))),
                )
                for p in processors
                if _text(p, "ProcessorType") in ("", "CPU")
            ),
            drives=tuple(
                Drive(
                    name=_text(d, "Name") or _text(d, "Id"),
                    size_bytes=int(_number(d.get("CapacityBytes"))),
                    kind=_text(d, "MediaType"),
                    protocol=_text(d, "Protocol"),
                    serial=_text(d, "SerialNumber"),
                    health=str(_at(d, "Status", "Health") or "")[:40],
                )
                for d in drives
            ),
            nics=tuple(
                Nic(
                    name=_text(n, "Name") or _text(n, "Id"),
                    mac=_text(n, "PermanentMACAddress") or _text(n, "MACAddress"),
                    speed_mbit=int(_number(n.get("SpeedMbps"))),
                    link={"LinkUp": True, "LinkDown": False, "NoLink": False}.get(
                        _text(n, "LinkStatus")
                    ),
                )
                for n in nics
            ),
            boot_now=str(_at(system, "Boot", "BootSourceOverrideTarget") or "")[:40],
            boot_enabled=str(_at(system, "Boot", "BootSourceOverrideEnabled") or "")[:40],
            boot_options=_words(
                _at(system, "Boot", "BootSourceOverrideTarget@Redfish.AllowableValues")
            ),
            resets=_words(
                _at(system, "Actions", "#ComputerSystem.Reset", "ResetType@Redfish.AllowableValues")
            ),
            media=tuple(
                MediaSlot(
                    id=_text(m, "Id"),
                    kinds=_words(m.get("MediaTypes")),
                    image=_text(m, "Image"),
                    inserted=m.get("Inserted") is True,
                )
                for m in media
            ),
            firmware=firmware,
            redfish=_text(root, "RedfishVersion"),
            certificate=self.certificate,
            missing=tuple(missing),
        )

    async def _system(self, root: dict[str, Any]) -> dict[str, Any]:
        systems = await self.members(await self.linked(root, "Systems"))
        if not systems:
            raise RemoteFailed(
                f"{self.name}: its controller knows no system",
                target=self.name,
                operation="GET Systems",
                hint="See whether this is the controller of a single machine.",
            )
        return systems[0]

    async def _firmware(
        self, root: dict[str, Any], system: dict[str, Any], manager: dict[str, Any] | None
    ) -> tuple[Firmware, ...]:
        service = await self.linked(root, "UpdateService")
        listed = (
            await self.members(await self.linked(service, "FirmwareInventory")) if service else []
        )
        found = [
            Firmware(name=_text(item, "Name") or _text(item, "Id"), version=_text(item, "Version"))
            for item in listed
        ]
        if not any(item.name == "BIOS" for item in found) and _text(system, "BiosVersion"):
            found.append(Firmware(name="BIOS", version=_text(system, "BiosVersion")))
        if (
            manager
            and not any(item.name == "Controller" for item in found)
            and _text(manager, "FirmwareVersion")
        ):
            found.append(Firmware(name="Controller", version=_text(manager, "FirmwareVersion")))
        return tuple(found)

    async def power(self, kind: str) -> str:
        """ComputerSystem.Reset (DSP0266, actions); the PowerState right before. Raises RemoteFailed
        in the controller's own words.
        """
        root = await self.root()
        await self.log_in()
        try:
            system = await self._system(root)
            allowed = _words(
                _at(system, "Actions", "#ComputerSystem.Reset", "ResetType@Redfish.AllowableValues")
            )
            if allowed and kind not in allowed:
                raise RemoteFailed(
                    f"{self.name} does not know {kind}; it knows {', '.join(allowed)}",
                    target=self.name,
                    operation=kind,
                )
            target = _at(system, "Actions", "#ComputerSystem.Reset", "target")
            path = (
                str(target)
                if isinstance(target, str) and target.startswith("/redfish/")
                else f"{_text(system, '@odata.id')}/Actions/ComputerSystem.Reset"
            )
            answer = await self.peer.ask(
                "POST", path, body={"ResetType": kind}, headers=self._headers
            )
            if answer.status not in (200, 202, 204):
                raise RemoteFailed(
                    f"{self.name}: {kind} is answered with status {answer.status}:"
                    f" {_said(answer) or 'no reason given'}",
                    target=self.name,
                    operation=kind,
                    hint="See its controller's own page.",
                )
            return _text(system, "PowerState")
        finally:
            await self._leave()

    async def power_state(self) -> str:
        """PowerState now."""
        root = await self.root()
        await self.log_in()
        try:
            return _text(await self._system(root), "PowerState")
        finally:
            await self._leave()


async def until(machine: RedfishMachine, wanted: str, seconds: float, pause: Any) -> bool:
    """Whether the machine's power comes to be as wanted within so many seconds; a controller that
    is busy is asked again.
    """
    try:
        async with asyncio.timeout(seconds):
            while True:
                with contextlib.suppress(StoneError):
                    if await machine.power_state() == wanted:
                        return True
                await pause(0.5)
    except TimeoutError:
        return False


def _at(data: Any, *path: str) -> Any:
    for key in path:
        data = data.get(key) if isinstance(data, dict) else None
    return data


def _text(data: dict[str, Any] | None, member: str) -> str:
    value = data.get(member) if data else None
    return str(value).strip()[:200] if isinstance(value, str | int | float) else ""


def _number(value: Any) -> float:
    return (
        float(value)
        if isinstance(value, int | float) and not isinstance(value, bool) and 0 <= value < 1e18
        else 0.0
    )


def _words(value: Any) -> tuple[str, ...]:
    return (
        tuple(str(word)[:60] for word in value[:40] if isinstance(word, str))
        if isinstance(value, list)
        else ()
    )


def _first(items: list[dict[str, Any]]) -> dict[str, Any] | None:
    return items[0] if items else None


def _said(answer: JsonAnswer) -> str:
    """The controller's own words (DSP0266, error responses)."""
    info = _at(answer.data, "error", "@Message.ExtendedInfo")
    words = (
        [str(item.get("Message", "")) for item in info if isinstance(item, dict)]
        if isinstance(info, list)
        else []
    )
    return (
        " ".join(word for word in words if word) or str(_at(answer.data, "error", "message") or "")
    )[:300]
