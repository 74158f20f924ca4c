"""The dial policy: which addresses may be dialled, and where a planned address really lies."""

from __future__ import annotations

from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Network
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from nimble_stone.core.errors import InputError

PRIVATE = tuple(
    IPv4Network(net) for net in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "127.0.0.0/8")
)


class Mapping(BaseModel):
    """Addresses of `planned` lie in `real`, bit for bit (both of one prefix length)."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    planned: IPv4Network
    real: IPv4Network


class DialPolicy(BaseModel):
    """What may be dialled. File `dial.yaml` in the data folder, format `dial/1`.

    `low_ports`: added to ports below 1024 of mapped addresses, so that the lab needs no privileges.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)
    nimble_stone: Literal["dial/1"] = Field(default="dial/1", alias="nimble-stone")
    allowed: tuple[IPv4Network, ...] = PRIVATE
    mapped: tuple[Mapping, ...] = ()
    low_ports: int = Field(default=0, ge=0, le=65_535 - 1023)
    connect_seconds: float = Field(default=8.0, gt=0, le=120)
    fetch_own: bool = Field(
        default=False,
        description="Whether packages may be fetched from this machine's own addresses.",
    )

    def fetchable(self, address: str, port: int, is_own: Callable[[str], bool]) -> tuple[str, int]:
        """Where to dial for a web address. This machine's own services are not for whoever may name
        an address: its own
        addresses are refused unless dial.yaml allows them. Raises InputError."""
        real, real_port = self.real(address, port)
        if real == address and not self.fetch_own and is_own(address):
            raise InputError(
                f"{address} is an address of the server itself; packages are not fetched from"
                " there",
                code="dial-own",
                hint=(
                    "Upload the file, put it into the watched folder, or set `fetch_own: true` in"
                    " dial.yaml."
                ),
            )
        return real, real_port

    def real(self, address: str, port: int) -> tuple[str, int]:
        """Where to dial for a planned address. Raises InputError when the policy forbids it."""
        try:
            planned = IPv4Address(address)
        except ValueError as error:
            raise InputError(f"“{address}” is not an IPv4 address", code="dial-address") from error
        if not any(planned in net for net in self.allowed):
            raise InputError(
                f"{address} is outside the allowed networks",
                code="dial-refused",
                hint="Add its network to `allowed` in dial.yaml, if it is yours.",
            )
        for mapping in self.mapped:
            if planned in mapping.planned:
                offset = int(planned) - int(mapping.planned.network_address)
                return str(mapping.real.network_address + offset), (
                    port + self.low_ports if port < 1024 else port
                )
        return address, port
