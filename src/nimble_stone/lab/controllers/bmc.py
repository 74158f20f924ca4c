"""Stand-in management controllers: Redfish (DSP0266) over HTTPS, each with a certificate of its
own, some of them odd.
"""

from __future__ import annotations

import asyncio
import base64
import json
import ssl
import tempfile
import uuid as uuids
from collections.abc import Awaitable, Callable
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

from aiohttp import web
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from nimble_stone.core.units import GIB
from nimble_stone.lab.scenario.demo import BMC_PASSWORD, MachinePlan

ROOT = "/redfish/v1"
SYSTEM = f"{ROOT}/Systems/1"
RESETS = ["On", "ForceOff", "GracefulShutdown", "ForceRestart", "PowerCycle"]


@dataclass
class BmcKnobs:
    """How a controller misbehaves. Seconds."""

    slow_s: float = 0.0
    unreachable: bool = False
    login_refused: bool = False
    starting: bool = False
    new_certificate: bool = False
    garbage: bool = False


@dataclass
class LabMachine:
    """One machine and its controller."""

    plan: MachinePlan
    knobs: BmcKnobs = field(default_factory=BmcKnobs)
    power: str = "Off"
    boot: dict[str, str] = field(default_factory=lambda: {"target": "None", "enabled": "Disabled"})
    image: str = ""
    log: list[str] = field(default_factory=list)


class Controller:
    """The HTTPS service of one machine."""

    def __init__(self, machine: LabMachine, folder: Path, speed: Callable[[], float]) -> None:
        self.machine, self._folder, self._speed = machine, folder, speed
        self._tokens: set[str] = set()
        self._runner: web.AppRunner | None = None

    async def open(self, address: str, port: int) -> None:
        """Listen."""
        app = web.Application(middlewares=[self._guard])
        app.add_routes(
            [
                web.get("/redfish", self._versions),
                web.get(f"{ROOT}/SessionService/Sessions", self._sessions),
                web.post(f"{ROOT}/SessionService/Sessions", self._log_in),
                web.delete(ROOT + "/SessionService/Sessions/{id}", self._log_out),
                web.post(f"{SYSTEM}/Actions/ComputerSystem.Reset", self._reset),
                web.patch(SYSTEM, self._patch),
                web.post(
                    ROOT + "/Managers/1/VirtualMedia/{slot}/Actions/VirtualMedia.InsertMedia",
                    self._insert,
                ),
                web.post(
                    ROOT + "/Managers/1/VirtualMedia/{slot}/Actions/VirtualMedia.EjectMedia",
                    self._eject,
                ),
                web.get("/redfish/v1{rest:.*}", self._get),
            ]
        )
        self._runner = web.AppRunner(app, access_log=None)
        await self._runner.setup()
        await web.TCPSite(
            self._runner, address, port, ssl_context=self._tls(address), reuse_address=True
        ).start()

    async def close(self) -> None:
        """Stop listening."""
        if self._runner:
            await self._runner.cleanup()
            self._runner = None

    def _tls(self, address: str) -> ssl.SSLContext:
        second = "-second" if self.machine.knobs.new_certificate else ""
        path = self._folder / f"{self.machine.plan.name}{second}.pem"
        if not path.exists():
            path.write_bytes(_certificate(self.machine.plan))
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(path)
        return context

    @web.middleware
    async def _guard(
        self, request: web.Request, handler: Callable[[web.Request], Awaitable[web.StreamResponse]]
    ) -> web.StreamResponse:
        knobs = self.machine.knobs
        wait = knobs.slow_s or self.machine.plan.odd.get("slow_s", 0.0) / max(1.0, self._speed())
        if wait:
            await asyncio.sleep(wait)
        if knobs.starting:
            return web.json_response(
                {
                    "error": {
                        "code": "Base.1.8.ServiceTemporarilyUnavailable",
                        "message": "starting",
                    }
                },
                status=503,
            )
        open_to_all = request.path.rstrip("/") in ("/redfish", ROOT) or (
            request.method == "POST" and request.path.endswith("/SessionService/Sessions")
        )
        if not open_to_all and not self._known(request):
            return _error(
                401,
                "Base.1.8.NoValidSession",
                "There is no valid session established with the implementation.",
            )
        if knobs.garbage and request.path.startswith(f"{ROOT}/Systems"):
            return web.Response(body=b"<html>\xff\xfe oops", content_type="text/html")
        answer = await handler(request)
        answer.headers["OData-Version"] = "4.0"
        return answer

    def _known(self, request: web.Request) -> bool:
        if request.headers.get("X-Auth-Token") in self._tokens:
            return True
        kind, _, value = request.headers.get("Authorization", "").partition(" ")
        return (
            kind == "Basic"
            and not self.machine.knobs.login_refused
            and value == base64.b64encode(f"admin:{BMC_PASSWORD}".encode()).decode()
        )

    async def _versions(self, request: web.Request) -> web.Response:
        return web.json_response({"v1": "/redfish/v1/"})

    async def _sessions(self, request: web.Request) -> web.Response:
        return web.json_response(
            _collection(
                f"{ROOT}/SessionService/Sessions",
                "SessionCollection",
                [f"{ROOT}/SessionService/Sessions/{t[:8]}" for t in self._tokens],
            )
        )

    async def _log_in(self, request: web.Request) -> web.Response:
        if self.machine.plan.odd.get("no_sessions"):
            return _error(404, "Base.1.8.ResourceNotFound", "There are no sessions here.")
        body = await request.json()
        if self.machine.knobs.login_refused or (body.get("UserName"), body.get("Password")) != (
            "admin",
            BMC_PASSWORD,
        ):
            return _error(401, "Base.1.8.NoValidSession", "The user name or password is wrong.")
        token = uuids.uuid4().hex
        self._tokens.add(token)
        path = f"{ROOT}/SessionService/Sessions/{token[:8]}"
        return web.json_response(
            {
                "@odata.id": path,
                "@odata.type": "#Session.v1_3_0.Session",
                "Id": token[:8],
                "Name": "Session",
                "UserName": "admin",
            },
            status=201,
            headers={"X-Auth-Token": token, "Location": path},
        )

    async def _log_out(self, request: web.Request) -> web.Response:
        self._tokens = {token for token in self._tokens if token[:8] != request.match_info["id"]}
        return web.Response(status=204)

    async def _reset(self, request: web.Request) -> web.Response:
        kind = str((await request.json()).get("ResetType"))
        if kind not in RESETS:
            return _error(
                400, "Base.1.8.ActionParameterNotSupported", f"ResetType {kind} is not supported."
            )
        if kind == "On" and self.machine.power == "On":
            return _error(409, "Base.1.8.NoOperation", "The machine is on already.")
        self.machine.log.append(f"reset {kind}")
        task = asyncio.create_task(self._change(kind))
        task.add_done_callback(lambda _: None)
        return web.Response(status=204)

    async def _change(self, kind: str) -> None:
        self.machine.power = (
            "PoweringOff" if kind in ("ForceOff", "GracefulShutdown") else "PoweringOn"
        )
        await asyncio.sleep(6.0 / self._speed())
        self.machine.power = "Off" if kind in ("ForceOff", "GracefulShutdown") else "On"

    async def _patch(self, request: web.Request) -> web.Response:
        boot = (await request.json()).get("Boot", {})
        self.machine.boot = {
            "target": str(boot.get("BootSourceOverrideTarget", "None")),
            "enabled": str(boot.get("BootSourceOverrideEnabled", "Once")),
        }
        return web.Response(status=204)

    async def _insert(self, request: web.Request) -> web.Response:
        self.machine.image = str((await request.json()).get("Image", ""))
        return web.Response(status=204)

    async def _eject(self, request: web.Request) -> web.Response:
        self.machine.image = ""
        return web.Response(status=204)

    async def _get(self, request: web.Request) -> web.Response:
        found = self._tree().get(request.path.rstrip("/"))
        return (
            web.json_response(found)
            if found is not None
            else _error(404, "Base.1.8.ResourceNotFound", f"{request.path} does not exist.")
        )

    def _tree(self) -> dict[str, dict[str, Any]]:
        plan, odd = self.machine.plan, self.machine.plan.odd
        serial = f"HM{uuids.uuid5(uuids.NAMESPACE_DNS, plan.name).hex[:8].upper()}"
        tree: dict[str, dict[str, Any]] = {}

        def put(path: str, kind: str, **values: Any) -> str:
            tree[path] = {
                "@odata.id": path,
                "@odata.type": f"#{kind}",
                "Id": path.rsplit("/", 1)[-1],
                "Name": values.pop("Name", path.rsplit("/", 1)[-1]),
                **values,
            }
            return path

        def group(path: str, kind: str, members: list[str]) -> dict[str, str]:
            tree[path] = _collection(path, kind, members)
            return {"@odata.id": path}

        processors = [
            put(
                f"{SYSTEM}/Processors/CPU{n}",
                "Processor.v1_9_0.Processor",
                ProcessorType="CPU",
                Model="Stonework 9374F",
                TotalCores=plan.cores // 2,
                TotalThreads=plan.cores,
                Status={"Health": "OK", "State": "Enabled"},
            )
            for n in (1, 2)
        ]
        drives = [
            put(
                f"{ROOT}/Chassis/1/Drives/{n}",
                "Drive.v1_10_0.Drive",
                Name=f"bay {n}",
                CapacityBytes=plan.drive_bytes,
                MediaType="SSD" if n < 2 else plan.drive_kind,
                Protocol="NVMe" if plan.drive_kind == "SSD" else "SAS",
                SerialNumber=f"{serial}D{n}",
                Status={"Health": "Warning" if odd.get("worn") == n else "OK"},
            )
            for n in range(plan.drives)
        ]
        nics = [
            put(
                f"{SYSTEM}/EthernetInterfaces/{n}",
                "EthernetInterface.v1_6_0.EthernetInterface",
                Name=f"port {n}",
                PermanentMACAddress=plan.mac(n),
                MACAddress=plan.mac(n),
                SpeedMbps=25000,
                LinkStatus="LinkUp" if n < 3 else "NoLink",
            )
            for n in range(1, 5)
        ]
        media = [
            put(
                f"{ROOT}/Managers/1/VirtualMedia/CD1",
                "VirtualMedia.v1_3_0.VirtualMedia",
                Name="Virtual CD",
                MediaTypes=["CD", "DVD"],
                Image=self.machine.image or None,
                Inserted=bool(self.machine.image),
                Actions={
                    "#VirtualMedia.InsertMedia": {
                        "target": (
                            f"{ROOT}/Managers/1/VirtualMedia/CD1/Actions/VirtualMedia.InsertMedia"
                        )
                    },
                    "#VirtualMedia.EjectMedia": {
                        "target": (
                            f"{ROOT}/Managers/1/VirtualMedia/CD1/Actions/VirtualMedia.EjectMedia"
                        )
                    },
                },
            )
        ]
        bios = odd.get("bios", "2.4.1")
        firmware = [
            put(
                f"{ROOT}/UpdateService/FirmwareInventory/{name}",
                "SoftwareInventory.v1_3_0.SoftwareInventory",
                Name=name,
                Version=version,
            )
            for name, version in (("BIOS", bios), ("Controller", "1.18.3"), ("Adapter", "22.31.6"))
        ]
        storage = put(
            f"{SYSTEM}/Storage/1",
            "Storage.v1_8_0.Storage",
            Drives=[{"@odata.id": path} for path in drives],
        )
        sparse = bool(odd.get("sparse"))
        system: dict[str, Any] = {
            "Manufacturer": "Holm Instruments",
            "Model": plan.model,
            "SerialNumber": serial,
            "UUID": str(uuids.uuid5(uuids.NAMESPACE_DNS, plan.name)),
            "HostName": plan.name,
            "PowerState": self.machine.power,
            "SystemType": "Physical",
            "Processors": group(f"{SYSTEM}/Processors", "ProcessorCollection", processors),
            "EthernetInterfaces": group(
                f"{SYSTEM}/EthernetInterfaces", "EthernetInterfaceCollection", nics
            ),
            "Actions": {
                "#ComputerSystem.Reset": {
                    "target": f"{SYSTEM}/Actions/ComputerSystem.Reset",
                    "ResetType@Redfish.AllowableValues": RESETS,
                }
            },
            "Boot": {
                "BootSourceOverrideTarget": self.machine.boot["target"],
                "BootSourceOverrideEnabled": self.machine.boot["enabled"],
                "BootSourceOverrideTarget@Redfish.AllowableValues": [
                    "None",
                    "Pxe",
                    "Cd",
                    "Hdd",
                    "BiosSetup",
                ],
            },
        }
        if not sparse:
            system |= {
                "MemorySummary": {
                    "TotalSystemMemoryGiB": plan.memory_bytes // GIB,
                    "Status": {"Health": "OK"},
                },
                "Status": {"State": "Enabled", "Health": "OK"},
                "BiosVersion": bios,
                "Storage": group(f"{SYSTEM}/Storage", "StorageCollection", [storage]),
            }
        put(SYSTEM, "ComputerSystem.v1_13_0.ComputerSystem", Name="System", **system)
        put(
            f"{ROOT}/Chassis/1",
            "Chassis.v1_14_0.Chassis",
            Name="Chassis",
            ChassisType="RackMount",
            Manufacturer="Holm Instruments",
            Model=plan.model,
            SerialNumber=serial,
            Status={"Health": "OK"},
        )
        put(
            f"{ROOT}/Managers/1",
            "Manager.v1_10_0.Manager",
            Name="Controller",
            ManagerType="BMC",
            FirmwareVersion="1.18.3",
            **(
                {}
                if sparse
                else {
                    "VirtualMedia": group(
                        f"{ROOT}/Managers/1/VirtualMedia", "VirtualMediaCollection", media
                    )
                }
            ),
        )
        put(
            f"{ROOT}/SessionService",
            "SessionService.v1_1_8.SessionService",
            Name="Sessions",
            ServiceEnabled=True,
            Sessions={"@odata.id": f"{ROOT}/SessionService/Sessions"},
        )
        root: dict[str, Any] = {
            "RedfishVersion": "1.11.0",
            "UUID": str(uuids.uuid5(uuids.NAMESPACE_DNS, f"bmc.{plan.name}")),
            "Systems": group(f"{ROOT}/Systems", "ComputerSystemCollection", [SYSTEM]),
            "Chassis": group(f"{ROOT}/Chassis", "ChassisCollection", [f"{ROOT}/Chassis/1"]),
            "Managers": group(f"{ROOT}/Managers", "ManagerCollection", [f"{ROOT}/Managers/1"]),
            "SessionService": {"@odata.id": f"{ROOT}/SessionService"},
            "Links": {"Sessions": {"@odata.id": f"{ROOT}/SessionService/Sessions"}},
        }
        if not sparse:
            put(
                f"{ROOT}/UpdateService",
                "UpdateService.v1_8_0.UpdateService",
                Name="Updates",
                FirmwareInventory=group(
                    f"{ROOT}/UpdateService/FirmwareInventory",
                    "SoftwareInventoryCollection",
                    firmware,
                ),
            )
            root["UpdateService"] = {"@odata.id": f"{ROOT}/UpdateService"}
        put(ROOT, "ServiceRoot.v1_9_0.ServiceRoot", Name="Root", **root)
        tree[ROOT]["Id"] = "RootService"
        return tree


def _collection(path: str, kind: str, members: list[str]) -> dict[str, Any]:
    return {
        "@odata.id": path,
        "@odata.type": f"#{kind}.{kind}",
        "Name": kind,
        "Members@odata.count": len(members),
        "Members": [{"@odata.id": m} for m in members],
    }


def _error(status: int, code: str, message: str) -> web.Response:
    return web.json_response(
        {
            "error": {
                "code": code,
                "message": message,
                "@Message.ExtendedInfo": [{"MessageId": code, "Message": message}],
            }
        },
        status=status,
    )


def _certificate(plan: MachinePlan) -> bytes:
    """Key and self-made certificate; that of a machine with an odd one has expired and names
    another machine.
    """
    key = ec.generate_private_key(ec.SECP256R1())
    wrong = plan.odd.get("certificate")
    name = x509.Name(
        [
            x509.NameAttribute(
                x509.NameOID.COMMON_NAME, "localhost" if wrong else f"{plan.name}-bmc.holm.example"
            )
        ]
    )
    start = datetime.now(UTC) - timedelta(days=900 if wrong else 30)
    names: list[x509.GeneralName] = (
        [x509.DNSName("localhost")]
        if wrong
        else [
            x509.DNSName(f"{plan.name}-bmc.holm.example"),
            x509.IPAddress(IPv4Address(plan.address)),
        ]
    )
    built = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(start)
        .not_valid_after(start + timedelta(days=365 if wrong else 3650))
        .add_extension(x509.SubjectAlternativeName(names), critical=False)
    )
    certificate = built.sign(key, hashes.SHA256())
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    ) + certificate.public_bytes(serialization.Encoding.PEM)


def load(plan: MachinePlan, folder: Path) -> LabMachine:
    """As it was left, or new and off."""
    path = folder / f"{plan.name}.bmc.json"
    machine = LabMachine(plan, power=plan.odd.get("power", "Off"))
    if path.exists():
        data = json.loads(path.read_text())
        machine.knobs, machine.power = (
            BmcKnobs(**data["knobs"]),
            ("On" if data["power"] == "On" else "Off"),
        )
    return machine


def save(machine: LabMachine, folder: Path) -> None:
    """Keep knobs and power."""
    text = json.dumps({"knobs": asdict(machine.knobs), "power": machine.power})
    with tempfile.NamedTemporaryFile("w", dir=folder, delete=False) as file:
        file.write(text)
    Path(file.name).replace(folder / f"{machine.plan.name}.bmc.json")
