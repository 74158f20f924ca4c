"""How nodes tell how they are, and how long things take. Durations in seconds."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from nimble_stone.core import reply, shell_words
from nimble_stone.core.kit.calls import Reading
from nimble_stone.core.kit.part import Part
from nimble_stone.core.kit.setup import Await

Identity = Literal["name", "address", "address6", "version", "role", "roles", "time"]


class Service(Part):
    """How a node reports that its services are ready: by a request to `path`, or by a command."""

    port: int = Field(ge=1, le=65535)
    path: str = ""
    ssh: str = Field(
        default="",
        max_length=400,
        description=(
            "Instead of a request: a command on the node, by SSH; it prints a JSON object, such as"
            " `cloud-init status --format=json`."
        ),
    )
    members: str = Field(
        default="",
        description="Path where the first node lists members (name and role).",
    )
    ready: dict[Reading, str] = Field(
        description="What of the answer has which value when the node is ready."
    )
    failed: dict[Reading, str] = Field(
        default={}, description="The same when it has failed for good."
    )
    identity: dict[Identity, Reading] = Field(
        default={},
        description="Where the answer says who the node is, if not in members with these names.",
    )
    names: Reading = Field(
        default="$.members[*].name", description="Where the list of members has their names."
    )
    leads: Reading = Field(
        default="",
        description="Where it says how many leads there are; empty: members of the first role.",
    )

    def says(self, what: str) -> str:
        """Where its answer says who the node is."""
        known: dict[str, str] = dict(self.identity.items())
        return known.get(what, what)

    @model_validator(mode="after")
    def _asks_one_way(self) -> Service:
        if bool(self.path) == bool(self.ssh):
            raise ValueError("service needs a path or a command, and only one of them")
        for what in (*self.ready, *self.failed, *self.identity.values(), self.names, self.leads):
            if what and (wrong := reply.fault_of(what)):
                raise ValueError(f"service: “{what}” cannot be read: {wrong}")
        if self.ssh and (wrong := shell_words.fault_of(self.ssh)):
            raise ValueError(f"service: in the command “{self.ssh}” {wrong}")
        return self


class Durations(Part):
    """Expected seconds of steps that do not depend on size."""

    boot: Await
    services: Await
    define: float = 1.0
    start: float = 2.0
    medium: float = 1.0
