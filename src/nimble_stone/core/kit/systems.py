"""Existing systems outside a plan that a kit's steps and checks ask: a load balancer, a licence
server, what watches or protects.
"""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from nimble_stone.core.kit.calls import Login, LogsIn
from nimble_stone.core.models import Ident

ITSELF, FIRST = "itself", "first"
"""Whom a call asks, besides a system by its id: the node, or the plan's first node."""


class OutsideSystem(LogsIn):
    """A system that is there already. Calls ask it by `asks: ID`; what they made there is rolled
    back by their `undo`. Address and credentials are templates with settings of the plan.
    """

    id: Ident
    label: str = Field(max_length=60)
    purpose: str = Field(default="", max_length=200)
    address: str = Field(
        min_length=1, max_length=200, description="A template such as `{balancer}`."
    )
    port: int = Field(
        default=0, ge=0, le=65_535, description="0: 80, or 443 for HTTPS. SSH is always 22."
    )
    scheme: Literal["http", "https"] = "http"
    trust: str = Field(
        default="",
        max_length=200,
        description=(
            "For HTTPS: a template for the fingerprint of its certificate (SHA256 …) or for the"
            " certificates that signed it (PEM). While the setting is empty, a check shows what the"
            " system presents, and no run begins."
        ),
    )
    host_key: str = Field(
        default="",
        max_length=200,
        description=(
            "For SSH: a template for the fingerprint of its host key (SHA256:…). While the setting"
            " is empty, a check shows the key, and no run begins. Without it the first key that is"
            " seen is kept."
        ),
    )
    login: Login = "none"
    user: str = Field(default="", max_length=200, description="A template.")
    password: str = Field(
        default="", max_length=200, description="A template such as `{balancer_password}`."
    )

    @property
    def real_port(self) -> int:
        """Where calls go that name no port."""
        return self.port or (443 if self.scheme == "https" else 80)

    @model_validator(mode="after")
    def _can_be_asked(self) -> OutsideSystem:
        if self.id in (ITSELF, FIRST, "cluster"):
            raise ValueError(f"a system cannot be named “{self.id}”")
        if (self.scheme == "https") != bool(self.trust):
            raise ValueError(
                f"system “{self.id}”: HTTPS and `trust` go together; name the setting that holds"
                " its fingerprint"
            )
        return self
