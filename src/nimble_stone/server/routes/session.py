"""Signing in and out."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from pydantic import BaseModel, Field

from nimble_stone import __version__
from nimble_stone.server import auth
from nimble_stone.server.deps import TheWorld
from nimble_stone.store import records

router = APIRouter(tags=["session"])


class SignIn(BaseModel):
    key: str = Field(max_length=200)


class Session(BaseModel):
    csrf: str
    version: str


@router.get("/health")
async def health() -> dict[str, str]:
    """Whether the server is up."""
    return {"state": "up", "version": __version__}


@router.post("/session")
async def sign_in(body: SignIn, request: Request, response: Response, world: TheWorld) -> Session:
    """Sign in with the access key."""
    token, csrf = await auth.sign_in(world, body.key.strip(), request.app.state.tries)
    response.set_cookie(auth.COOKIE, token, max_age=auth.LASTS_S, httponly=True, samesite="strict", secure=request.url.scheme == "https")
    return Session(csrf=csrf, version=__version__)


@router.get("/session")
async def session(request: Request) -> Session:
    """The session's token for changes."""
    return Session(csrf=await auth.csrf_of(request) or "", version=__version__)


@router.delete("/session")
async def sign_out(request: Request, response: Response, world: TheWorld) -> dict[str, str]:
    """Sign out."""
    await world.store.write(records.drop_session, auth.digest(request.cookies.get(auth.COOKIE, "")))
    response.delete_cookie(auth.COOKIE)
    return {"state": "signed out"}
