"""Putting the server together. This module alone wires everything."""

from __future__ import annotations

import contextlib
import gc
import logging
from collections.abc import AsyncIterator, Callable
from functools import lru_cache
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from fastapi import FastAPI
from fastapi.responses import FileResponse

from nimble_stone import __version__
from nimble_stone.app.application import Application
from nimble_stone.app.drift import Watcher
from nimble_stone.app.kits import KitFolder
from nimble_stone.app.upgrades import bring_forward
from nimble_stone.core import yaml_text
from nimble_stone.core.errors import NotFound
from nimble_stone.engine.engine import Engine
from nimble_stone.engine.scan import Scanner
from nimble_stone.keyring import Vault
from nimble_stone.packages.intake import Intake
from nimble_stone.packages.pulling import Tickets
from nimble_stone.reach import DialPolicy, Reach
from nimble_stone.reach.netboot import NetBoot
from nimble_stone.reach.ssh import Pins
from nimble_stone.server import auth, problems
from nimble_stone.server.bodies import BodyLimits
from nimble_stone.server.delivery import PageFiles
from nimble_stone.server.guard import Guard, known_names
from nimble_stone.server.live import LiveRuns
from nimble_stone.server.media import Media
from nimble_stone.server.routes import (
    adoption,
    certificates,
    deployments,
    designs,
    estate,
    former,
    keyring,
    kits,
    limits,
    machines,
    media,
    networks,
    node_keys,
    packages,
    plans,
    pools,
    preparation,
    pull,
    runs,
    search,
    session,
    tables,
    takeins,
    values,
)
from nimble_stone.store import records
from nimble_stone.store.connect import Store
from nimble_stone.store.folder import DATABASE, KEYRING_KEY, prepared

PAGES = {"", "plans", "estate", "packages", "kits", "keyring", "runs", "help"}
STATIC = Path(__file__).parent / "static"
log = logging.getLogger("nimble_stone.server")

GC_THRESHOLDS = (100_000, 20, 100)
"""A large plan is tens of thousands of small values that live for one answer; looking through all
of them again and again doubles its time.
"""


def read_policy(data: Path) -> DialPolicy:
    """The dial policy of a data folder; the built-in one when there is no dial.yaml. Raises
    FormatError.
    """
    path = data / "dial.yaml"
    return (
        yaml_text.read(path.read_text(), DialPolicy, "dial.yaml") if path.exists() else DialPolicy()
    )


def open_application(data: Path, pace: float) -> Application:
    """Store, keyring and door of a data folder (made when it is new, mode 0700)."""
    prepared(data)
    store = Store(data / DATABASE)
    prepared(data)

    async def get(place: str) -> str | None:
        return await store.read(records.get_pin, place)

    async def put(place: str, fingerprint: str) -> None:
        await store.write(records.put_pin, place, fingerprint, found.clock())

    packages_folder = data / "packages"
    packages_folder.mkdir(exist_ok=True, mode=0o700)
    found = Application(
        store,
        Vault.at(data / KEYRING_KEY),
        Reach(read_policy(data), Pins(get, put)),
        packages_folder,
        pace=pace,
    )
    return found


def create_app(
    data: Path,
    *,
    pace: float = 1.0,
    inbox: Path | None = None,
    reachable_at: str = "",
    pull_rate: float = 0.0,
    names: tuple[str, ...] = (),
    reports_host: str = "127.0.0.1",
    reports_port: int = 0,
    inspection_image: Path | None = None,
    netboot: NetBoot | None = None,
) -> FastAPI:
    """The application over one data folder. `pace` scales expected times (the lab is faster than
    the clock); packages put into
    `inbox` are taken in by themselves; `reachable_at` is the URL under which hosts reach this
    server, so that they can fetch disks
    themselves, at most at `pull_rate` bytes per second each (0: without limit); `names`: host names
    under which it may be addressed. Bare machines boot from `inspection_image` (else
    inspection.iso in the data folder) and report to `reports_port` (0: any free one) of
    `reports_host`; those that boot from the network are answered by `netboot`."""

    @contextlib.asynccontextmanager
    async def life(api: FastAPI) -> AsyncIterator[None]:
        gc.set_threshold(*GC_THRESHOLDS)
        app = open_application(data, pace)
        api.state.app, api.state.engine, api.state.kits = (
            app,
            Engine(app),
            KitFolder(data / "kits", app.monotonic),
        )
        for one in api.state.kits.look().faulty:
            log.warning("kit file %s is left out: %s", one.file, one.message)
        api.state.tickets = app.tickets = Tickets(app, reachable_at)
        app.pull_rate = pull_rate
        api.state.media = app.media = Media(
            app, reachable_at, inspection_image or data / "inspection.iso", netboot
        )
        await api.state.media.open(reports_host, reports_port)
        api.state.door, api.state.live_runs = auth.Door(app), LiveRuns(app)
        api.state.intake = Intake(app, inbox)
        api.state.scanner = Scanner(app)
        await bring_forward(app, api.state.kits.last.kits)
        await api.state.intake.open()
        await api.state.engine.open()
        watcher = Watcher(app)
        watcher.open()
        try:
            yield
        finally:
            await watcher.close()
            await api.state.scanner.close()
            await api.state.intake.close()
            await api.state.engine.close()
            await api.state.media.close()
            await app.reach.close()
            app.store.close()

    api = FastAPI(
        title="Nimble Stone",
        version=__version__,
        lifespan=life,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/openapi.json",
        generate_unique_id_function=lambda route: route.name,
    )
    problems.install(api)
    api.add_middleware(BodyLimits)
    api.add_middleware(Guard, names=known_names((*names, urlsplit(reachable_at).hostname or "")))
    for router in (
        session.router,
        estate.router,
        keyring.router,
        limits.router,
        preparation.router,
        machines.router,
        packages.router,
        takeins.router,
        designs.router,
        deployments.router,
        adoption.router,
        former.router,
        node_keys.router,
        networks.router,
        search.router,
        tables.router,
        values.router,
        plans.router,
        kits.router,
        certificates.router,
        pools.router,
        runs.router,
    ):
        api.include_router(router, prefix="/api", responses=problems.RESPONSES)
    api.include_router(pull.router, responses=problems.RESPONSES)
    api.include_router(media.router, responses=problems.RESPONSES)
    if STATIC.exists():
        api.mount("/assets", PageFiles(directory=STATIC / "assets"), name="assets")

        @api.get("/{path:path}", include_in_schema=False)
        async def page(path: str) -> FileResponse:
            """The application's own addresses; it finds its way from there. Elsewhere there is
            nothing.
            """
            if path.partition("/")[0] not in PAGES:
                raise NotFound(
                    f"there is nothing at /{path[:200]}",
                    hint="See /api/openapi.json for what there is.",
                )
            return FileResponse(STATIC / "index.html", headers={"Cache-Control": "no-cache"})

    api.openapi = _described(api.openapi)  # type: ignore[method-assign]
    return api


def _described(plain: Callable[[], dict[str, Any]]) -> Callable[[], dict[str, Any]]:
    """The API's description, made once, with problems as they are sent."""

    @lru_cache(maxsize=1)
    def made() -> dict[str, Any]:
        return problems.describe(plain())

    return made
