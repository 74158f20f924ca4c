"""What routers ask for."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Request

from nimble_stone.core.kit.model import Kit
from nimble_stone.engine.engine import Engine
from nimble_stone.engine.intake import Intake
from nimble_stone.engine.scan import Scanner
from nimble_stone.engine.world import World


def _world(request: Request) -> World:
    world: World = request.app.state.world
    return world


def _engine(request: Request) -> Engine:
    engine: Engine = request.app.state.engine
    return engine


def _intake(request: Request) -> Intake:
    intake: Intake = request.app.state.intake
    return intake


def _scanner(request: Request) -> Scanner:
    scanner: Scanner = request.app.state.scanner
    return scanner


def _kits(request: Request) -> dict[str, Kit]:
    kits: dict[str, Kit] = request.app.state.kits
    return kits


TheWorld = Annotated[World, Depends(_world)]
TheEngine = Annotated[Engine, Depends(_engine)]
TheIntake = Annotated[Intake, Depends(_intake)]
TheScanner = Annotated[Scanner, Depends(_scanner)]
TheKits = Annotated[dict[str, Kit], Depends(_kits)]
