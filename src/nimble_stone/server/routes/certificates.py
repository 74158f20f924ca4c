"""Certificates: the authority of this installation, and pairs that people bring for their nodes."""

from __future__ import annotations

from fastapi import APIRouter, Response
from fastapi.responses import PlainTextResponse
from pydantic import BaseModel, Field

from nimble_stone.app import editing
from nimble_stone.app.aside import aside
from nimble_stone.app.evaluate import evaluate
from nimble_stone.core import yaml_text
from nimble_stone.core.errors import Denied, InputError, NotFound
from nimble_stone.core.kit.networks import Certificate
from nimble_stone.core.plan.cells import MADE_HERE
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.engine import certificates as making
from nimble_stone.keyring import certificates
from nimble_stone.keyring.certificates import MAX_PEM
from nimble_stone.server import plan_answers
from nimble_stone.server.deps import TheApplication, TheKits
from nimble_stone.server.views import PlanView
from nimble_stone.store import records

router = APIRouter(tags=["certificates"])


class AuthorityView(BaseModel):
    """The authority's certificate (PEM), in words, and its SHA-256."""

    certificate: str
    words: str
    fingerprint: str


class PairView(BaseModel):
    """What stands at a certificate's place: '' made here; else the pair that was brought, in words.
    `names`: what it must be made out to.
    """

    words: str
    fingerprint: str
    names: list[str]
    nodes: int


class PairEdit(BaseModel):
    """A certificate with its key, for all nodes of the plan or for one; both empty: let one be made
    here.
    """

    version: int
    column: str = Field(max_length=120)
    node: str = Field(default="", max_length=60)
    certificate: str = Field(max_length=MAX_PEM)
    key: str = Field(max_length=MAX_PEM)


@router.get("/authority")
async def authority(app: TheApplication) -> AuthorityView:
    """The authority that signs certificates made here; clients that trust it trust the nodes. Made
    when it is first asked for.
    """
    pair = await making.authority(app)
    return AuthorityView(
        certificate=pair.certificate,
        words=certificates.words(pair.certificate),
        fingerprint=certificates.fingerprint(pair.certificate),
    )


@router.get("/authority.pem")
async def authority_file(app: TheApplication) -> PlainTextResponse:
    """The same as a file."""
    return PlainTextResponse(
        (await making.authority(app)).certificate,
        media_type="application/x-pem-file",
        headers={"Content-Disposition": 'attachment; filename="nimble-stone-authority.pem"'},
    )


@router.get("/plans/{ident}/pair")
async def plan_pair(
    ident: str, column: str, app: TheApplication, kits: TheKits, node: str = ""
) -> PairView:
    """What a certificate's cell stands for, and the names it must bear. Raises NotFound,
    InputError.
    """
    sheet = (await evaluate(app, kits, (await app.store.read(records.get_plan, ident)).text)).sheet
    wanted = _wanted(sheet, column)
    nodes = [
        one for one in sheet.nodes if one.cells[column].origin != "unused" and node in ("", one.id)
    ]
    value = nodes[0].value(column) if nodes else MADE_HERE
    names = list(dict.fromkeys(name for one in nodes for name in making.names(sheet, one, wanted)))
    if not value.startswith("keyring:"):
        return PairView(words="", fingerprint="", names=names, nodes=len(nodes))
    try:
        pair = certificates.unpacked(await app.open_for_plan(ident, value))
    except Denied:
        return PairView(
            words="not granted to this plan", fingerprint="", names=names, nodes=len(nodes)
        )
    except NotFound:
        return PairView(
            words="the keyring has lost it", fingerprint="", names=names, nodes=len(nodes)
        )
    return PairView(
        words=certificates.words(pair.certificate),
        fingerprint=certificates.fingerprint(pair.certificate),
        names=names,
        nodes=len(nodes),
    )


@router.post("/plans/{ident}/pair", response_model=PlanView)
async def keep_pair(ident: str, body: PairEdit, app: TheApplication, kits: TheKits) -> Response:
    """Keep a pair in the keyring and refer to it, or go back to one made here. Raises FormatError
    when certificate and key do not belong together.
    """
    row = await app.store.read(records.get_plan, ident)
    _wanted((await evaluate(app, kits, row.text)).sheet, body.column)
    path = ("nodes", body.node, body.column) if body.node else ("values", body.column)
    reference = MADE_HERE
    if body.certificate.strip() or body.key.strip():
        pair = certificates.read_pair(body.certificate, body.key)
        name = editing.secret_name(ident, body.node, body.column)
        reference = await app.keep_secret(name, pair.packed(), "certificate")
        app.hide(pair.key)
    text = await aside(yaml_text.edit, row.text, path, reference)
    kept = await editing.keep_text(app, kits, ident, text, body.version)
    return await plan_answers.answer(app, kept.row, kept.resolved)


def _wanted(sheet: Sheet, column: str) -> Certificate:
    found = next((one for one in sheet.kit.certificates if f"certificate.{one.id}" == column), None)
    if found is None:
        raise InputError("this column has no certificate", code="not-certificate")
    return found
