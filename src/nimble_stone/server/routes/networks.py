"""Networks of the estate: made, changed, removed."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, Field

from nimble_stone.app import networks
from nimble_stone.core.estate import Estate, Network
from nimble_stone.server.deps import TheApplication

router = APIRouter(tags=["estate"])
Text = Annotated[str, Field(max_length=200)]


class NetworkEdit(BaseModel):
    """A network as it is typed; an empty text leaves a member out. `dns`: addresses, separated by
    blanks or commas.
    """

    name: Annotated[str, Field(min_length=1, max_length=60)]
    subnet: Text
    gateway: Text
    vlan: Text = ""
    mtu: Text = ""
    dns: Text = ""
    ntp: Text = ""
    domain: Text = ""
    subnet6: Text = ""
    gateway6: Text = ""
    dynamic_first: Text = ""
    dynamic_last: Text = ""
    name_server: Text = ""
    name_port: Text = ""
    name_key: Text = ""
    name_algorithm: Text = ""
    name_credential: Text = ""


class NetworkList(BaseModel):
    """All networks of the estate."""

    networks: list[Network]


def _list(estate: Estate) -> NetworkList:
    return NetworkList(networks=list(estate.networks))


@router.put("/networks")
async def put_network(body: NetworkEdit, app: TheApplication) -> NetworkList:
    """Make a network, or replace the one with this name. Raises InputError."""
    given = {key: value.strip() for key, value in vars(body).items()}
    dns = body.dns.replace(",", " ").split()
    return _list(await networks.keep(app, given | {"dns": dns}))


@router.delete("/networks/{name}")
async def drop_network(name: str, app: TheApplication) -> NetworkList:
    """Remove a network. Raises NotFound, Conflict as long as pools or plans use it."""
    return _list(await networks.remove(app, name))
