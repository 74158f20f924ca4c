"""Signing in and out, sessions, and tokens of the command line and of scripts."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from pydantic import BaseModel, Field

from nimble_stone import __version__
from nimble_stone.core.errors import Denied
from nimble_stone.server import auth
from nimble_stone.server.deps import TheApplication, TheCaller, TheDoor
from nimble_stone.store import access

router = APIRouter(tags=["session"])


class SignIn(BaseModel):
    key: str = Field(max_length=200)


class Session(BaseModel):
    csrf: str
    version: str


class TokenView(BaseModel):
    """A token without its value."""

    id: str
    name: str
    made_at: float
    used_at: float | None


class AccessView(BaseModel):
    """Who can come in: how many sessions are open, and the tokens."""

    sessions: int
    tokens: list[TokenView]


class NewToken(BaseModel):
    name: str = Field(min_length=1, max_length=80)


class MadeToken(BaseModel):
    """A token, shown this once."""

    id: str
    token: str


@router.get("/health")
async def health(app: TheApplication) -> dict[str, str]:
    """Whether the server is up, and what keeps it from storing."""
    return {
        "state": "trouble" if app.trouble else "up",
        "version": __version__,
        "trouble": app.trouble,
    }


@router.post("/session")
async def sign_in(body: SignIn, request: Request, response: Response, door: TheDoor) -> Session:
    """Sign in with the access key. Answers 429 with Retry-After after ten wrong tries from one
    address in a minute.
    """
    address = request.client.host if request.client else ""
    token, csrf = await door.sign_in(body.key.strip(), address)
    response.set_cookie(
        auth.COOKIE,
        token,
        max_age=auth.LASTS_S,
        httponly=True,
        samesite="strict",
        secure=request.url.scheme == "https",
    )
    return Session(csrf=csrf, version=__version__)


@router.get("/session")
async def session(caller: TheCaller) -> Session:
    """The session's token for changes."""
    return Session(csrf=caller.csrf, version=__version__)


@router.delete("/session")
async def sign_out(caller: TheCaller, response: Response, app: TheApplication) -> dict[str, str]:
    """Sign out."""
    await app.store.write(access.drop_session, caller.digest)
    response.delete_cookie(auth.COOKIE)
    return {"state": "signed out"}


@router.get("/access")
async def access_view(app: TheApplication) -> AccessView:
    """Open sessions and tokens."""
    rows = await app.store.read(access.tokens)
    return AccessView(
        sessions=await app.store.read(access.session_count, app.clock()),
        tokens=[TokenView(**vars(row)) for row in rows],
    )


@router.delete("/access/sessions")
async def end_sessions(response: Response, app: TheApplication) -> dict[str, int]:
    """End all sessions, this one too; open streams end with them. Tokens stay."""
    ended = await app.store.write(access.drop_sessions)
    response.delete_cookie(auth.COOKIE)
    return {"ended": ended}


@router.post("/access/tokens")
async def token_make(body: NewToken, app: TheApplication, caller: TheCaller) -> MadeToken:
    """Make a token for the command line or a script. Raises Denied when a token asks for another
    one.
    """
    if caller.token:
        raise Denied(
            "a token cannot create tokens",
            code="token-needs-key",
            hint="Sign in with the access key.",
        )
    ident, token = await auth.make_token(app, body.name)
    return MadeToken(id=ident, token=token)


@router.delete("/access/tokens/{ident}")
async def token_revoke(ident: str, app: TheApplication) -> AccessView:
    """Revoke a token."""
    await app.store.write(access.drop_token, ident)
    return await access_view(app)
