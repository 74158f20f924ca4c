"""What routers ask for."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Request

from nimble_stone.app.application import Application
from nimble_stone.app.aside import aside
from nimble_stone.app.kits import KitFolder
from nimble_stone.core.kit.model import Kit
from nimble_stone.engine.engine import Engine
from nimble_stone.engine.scan import Scanner
from nimble_stone.packages.intake import Intake
from nimble_stone.packages.pulling import Tickets
from nimble_stone.server.auth import Caller, Door
from nimble_stone.server.live import LiveRuns
from nimble_stone.server.media import Media


def _app(request: Request) -> Application:
    app: Application = request.app.state.app
    return app


def _engine(request: Request) -> Engine:
    engine: Engine = request.app.state.engine
    return engine


def _intake(request: Request) -> Intake:
    intake: Intake = request.app.state.intake
    return intake


def _scanner(request: Request) -> Scanner:
    scanner: Scanner = request.app.state.scanner
    return scanner


async def _kits(request: Request) -> dict[str, Kit]:
    """The kits as they are now; a new file is seen at once."""
    room: KitFolder = request.app.state.kits
    return (room.last if room.is_fresh else await aside(room.look)).kits


def _kit_folder(request: Request) -> KitFolder:
    room: KitFolder = request.app.state.kits
    return room


TheKitFolder = Annotated[KitFolder, Depends(_kit_folder)]


def _tickets(request: Request) -> Tickets:
    tickets: Tickets = request.app.state.tickets
    return tickets


def _media(request: Request) -> Media:
    media: Media = request.app.state.media
    return media


def _door(request: Request) -> Door:
    door: Door = request.app.state.door
    return door


def _caller(request: Request) -> Caller:
    caller: Caller = request.state.caller
    return caller


def _live_runs(request: Request) -> LiveRuns:
    live: LiveRuns = request.app.state.live_runs
    return live


TheLiveRuns = Annotated[LiveRuns, Depends(_live_runs)]
TheMedia = Annotated[Media, Depends(_media)]
TheTickets = Annotated[Tickets, Depends(_tickets)]
TheDoor = Annotated[Door, Depends(_door)]
TheCaller = Annotated[Caller, Depends(_caller)]
TheApplication = Annotated[Application, Depends(_app)]
TheEngine = Annotated[Engine, Depends(_engine)]
TheIntake = Annotated[Intake, Depends(_intake)]
TheScanner = Annotated[Scanner, Depends(_scanner)]
TheKits = Annotated[dict[str, Kit], Depends(_kits)]
