"""Stand-in management controllers: Redfish (DSP0266) over HTTPS, each with a certificate of its
own, some of them odd, and with the habits that are met in the wild.
"""

from __future__ import annotations

import asyncio
import base64
import hashlib
import json
import ssl
import uuid as uuids
from collections import Counter
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

from aiohttp import web

from nimble_stone.lab.controllers import certificate
from nimble_stone.lab.controllers.machine import Box, LabMachine, Power
from nimble_stone.lab.controllers.tree import RESETS, ROOT, SYSTEM, collection, documents
from nimble_stone.lab.scenario.demo import BMC_PASSWORD

SHORT_SESSION = 6
TASK_POLLS = 2
PAGE = 2
Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]


class Controller:
    """The HTTPS service of one machine."""

    def __init__(
        self, machine: LabMachine, folder: Path, speed: Callable[[], float], box: Box
    ) -> None:
        self.machine, self._folder, self._speed = machine, folder, speed
        self.power = Power(machine, box, speed)
        # session token → requests made with it
        self._tokens: dict[str, int] = {}
        # status → how often it was answered
        self.answers: Counter[int] = Counter()
        # task → how often it was asked for
        self._tasks: dict[str, int] = {}
        self._runner: web.AppRunner | None = None

    async def open(self, address: str, port: int) -> None:
        """Listen."""
        app = web.Application(middlewares=[self._counted, self._guard])
        media = ROOT + "/{home:Managers|Systems}/1/VirtualMedia/{slot:CD1|CD2}"
        media += "/Actions/VirtualMedia"
        app.add_routes(
            [
                web.get("/redfish", self._versions),
                web.get(f"{ROOT}/SessionService/Sessions", self._sessions),
                web.post(f"{ROOT}/SessionService/Sessions", self._log_in),
                web.delete(ROOT + "/SessionService/Sessions/{id}", self._log_out),
                web.post(f"{SYSTEM}/Actions/ComputerSystem.Reset", self._reset),
                web.patch(SYSTEM, self._patch),
                web.get(ROOT + "/TaskService/Tasks/{id}/Monitor", self._task),
                web.patch(media.partition("/Actions")[0], self._change_slot),
                web.post(f"{media}.InsertMedia", self._insert),
                web.post(f"{media}.EjectMedia", self._eject),
                web.get("/redfish/v1{rest:.*}", self._get),
            ]
        )
        self._runner = web.AppRunner(app, access_log=None)
        await self._runner.setup()
        await web.TCPSite(
            self._runner, address, port, ssl_context=self._tls(address), reuse_address=True
        ).start()

    async def close(self) -> None:
        """Stop listening; the machine goes on."""
        if self._runner:
            await self._runner.cleanup()
            self._runner = None

    def _tls(self, address: str) -> ssl.SSLContext:
        second = "-second" if self.machine.knobs.new_certificate else ""
        path = self._folder / f"{self.machine.plan.name}{second}.pem"
        if not path.exists():
            path.write_bytes(certificate.made(self.machine.plan))
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(path)
        return context

    @web.middleware
    async def _counted(self, request: web.Request, handler: Handler) -> web.StreamResponse:
        answer = await handler(request)
        self.answers[answer.status] += 1
        return answer

    @web.middleware
    async def _guard(self, request: web.Request, handler: Handler) -> web.StreamResponse:
        knobs, habits = self.machine.knobs, self.machine.knobs.habits
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
        if "busy" in habits and self.machine.power.startswith("Powering") and not open_to_all:
            return _busy()
        if not open_to_all and not self._known(request):
            return _error(
                401,
                "Base.1.8.NoValidSession",
                "There is no valid session established with the implementation.",
            )
        if knobs.garbage and request.path.startswith(f"{ROOT}/Systems"):
            return web.Response(body=b"<html>\xff\xfe oops", content_type="text/html")
        if "etags" in habits and request.method == "PATCH":
            wanted = request.headers.get("If-Match", "")
            if wanted != self._tag(request.path):
                return _error(
                    412 if wanted else 428,
                    "Base.1.8.PreconditionFailed" if wanted else "Base.1.8.PreconditionRequired",
                    "The ETag supplied did not match." if wanted else "If-Match is required.",
                )
        answer = await handler(request)
        answer.headers["OData-Version"] = "4.0"
        if "etags" in habits and request.method == "GET":
            answer.headers["ETag"] = self._tag(request.path)
        return answer

    def _tag(self, path: str) -> str:
        found = documents(self.machine).get(path.rstrip("/"))
        return f'W/"{hashlib.sha256(json.dumps(found).encode()).hexdigest()[:12]}"'

    def _known(self, request: web.Request) -> bool:
        token = request.headers.get("X-Auth-Token", "")
        if token in self._tokens:
            self._tokens[token] += 1
            short = "short-sessions" in self.machine.knobs.habits
            if short and self._tokens[token] > SHORT_SESSION:
                del self._tokens[token]
                return False
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
            collection(
                f"{ROOT}/SessionService/Sessions",
                "SessionCollection",
                [f"{ROOT}/SessionService/Sessions/{t[:8]}" for t in self._tokens],
            )
        )

    async def _log_in(self, request: web.Request) -> web.Response:
        habits = self.machine.knobs.habits
        if self.machine.plan.odd.get("no_sessions") or "basic-only" in habits:
            return _error(404, "Base.1.8.ResourceNotFound", "There are no sessions here.")
        if "sessions-taken" in habits:
            return _error(
                503,
                "Base.1.8.SessionLimitExceeded",
                "The session establishment failed: all sessions are taken.",
            )
        body = await request.json()
        if self.machine.knobs.login_refused or (body.get("UserName"), body.get("Password")) != (
            "admin",
            BMC_PASSWORD,
        ):
            return _error(401, "Base.1.8.NoValidSession", "The user name or password is wrong.")
        token = uuids.uuid4().hex
        self._tokens[token] = 0
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
        ended = [token for token in self._tokens if token[:8] == request.match_info["id"]]
        for token in ended:
            del self._tokens[token]
        return web.Response(status=204)

    async def _reset(self, request: web.Request) -> web.Response:
        kind = str((await request.json()).get("ResetType"))
        if kind not in RESETS:
            return _error(
                400, "Base.1.8.ActionParameterNotSupported", f"ResetType {kind} is not supported."
            )
        if kind == "On" and self.machine.power == "On":
            return _error(409, "Base.1.8.NoOperation", "The machine is on already.")
        self.power.request(kind)
        return self._accepted()

    def _accepted(self) -> web.Response:
        """An action's answer: done, or a task that will be."""
        if "tasks" not in self.machine.knobs.habits:
            return web.Response(status=204)
        ident = uuids.uuid4().hex[:8]
        self._tasks[ident] = 0
        return _running(ident)

    async def _task(self, request: web.Request) -> web.Response:
        ident = request.match_info["id"]
        if ident not in self._tasks:
            return _error(404, "Base.1.8.ResourceNotFound", "There is no such task.")
        self._tasks[ident] += 1
        return _running(ident) if self._tasks[ident] <= TASK_POLLS else web.Response(status=204)

    async def _patch(self, request: web.Request) -> web.Response:
        boot = (await request.json()).get("Boot", {})
        enabled = str(boot.get("BootSourceOverrideEnabled", "Once"))
        demanded = "boot-mode" in self.machine.knobs.habits and enabled != "Disabled"
        if demanded and "BootSourceOverrideMode" not in boot:
            return _error(
                400, "Base.1.8.PropertyMissing", "BootSourceOverrideMode is a required property."
            )
        self.machine.boot = {
            "target": str(boot.get("BootSourceOverrideTarget", "None")),
            "enabled": enabled,
        }
        return web.Response(status=204)

    async def _insert(self, request: web.Request) -> web.Response:
        body, habits = await request.json(), self.machine.knobs.habits
        if "strict-media" in habits and set(body) - {"Image", "TransferProtocolType"}:
            return _error(
                400,
                "Base.1.8.ActionParameterUnknown",
                "The action was submitted with a parameter that is unknown.",
            )
        if "transfer-protocol" in habits and "TransferProtocolType" not in body:
            return _error(
                400, "Base.1.8.ActionParameterMissing", "TransferProtocolType is required."
            )
        self._hold(request, str(body.get("Image", "")))
        return self._accepted()

    async def _eject(self, request: web.Request) -> web.Response:
        self._hold(request, "")
        return self._accepted()

    def _hold(self, request: web.Request, image: str) -> None:
        """What is in the virtual drive that a request is about."""
        if request.match_info["slot"] == "CD2":
            self.machine.second = image
        else:
            self.machine.image = image

    async def _change_slot(self, request: web.Request) -> web.Response:
        if "change-media" not in self.machine.knobs.habits:
            return _error(405, "Base.1.8.OperationNotAllowed", "Use the actions.")
        self._hold(request, str((await request.json()).get("Image") or ""))
        return web.Response(status=204)

    async def _get(self, request: web.Request) -> web.Response:
        found = documents(self.machine).get(request.path.rstrip("/"))
        if found is None:
            return _error(404, "Base.1.8.ResourceNotFound", f"{request.path} does not exist.")
        if "pages" in self.machine.knobs.habits and "Members" in found:
            found = _page(found, int(request.query.get("$skip", "0")))
        return web.json_response(found)


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


def _page(found: dict[str, Any], start: int) -> dict[str, Any]:
    """A part of a collection, and where the next is (DSP0266, collection paging)."""
    members = found["Members"]
    page = found | {"Members": members[start : start + PAGE]}
    if start + PAGE < len(members):
        page["Members@odata.nextLink"] = f"{found['@odata.id']}?$skip={start + PAGE}"
    return page


def _busy() -> web.Response:
    answer = _error(
        503, "Base.1.8.ServiceTemporarilyUnavailable", "The service is temporarily unavailable."
    )
    answer.headers["Retry-After"] = "1"
    return answer


def _running(task: str) -> web.Response:
    """A task that goes on: each such answer says where it is asked for (DSP0266, asynchronous
    operations).
    """
    place = f"{ROOT}/TaskService/Tasks/{task}"
    return web.json_response(
        {"@odata.id": place, "Id": task, "TaskState": "Running"},
        status=202,
        headers={"Location": f"{place}/Monitor", "Retry-After": "1"},
    )
