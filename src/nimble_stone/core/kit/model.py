"""The kit file, format `kit/1`. Durations in seconds."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

Ident = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_-]{0,39}$")]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


class Count(_Part):
    """How many nodes a role has."""

    least: int = Field(default=1, ge=0, le=2000, description="Fewest nodes that make sense.")
    most: int = Field(default=1, ge=1, le=2000, description="Most nodes the product takes.")
    usual: int = Field(default=1, ge=0, le=2000, description="What a new plan begins with.")


class Role(_Part):
    """A part that nodes play."""

    id: Ident
    label: str
    short: str = Field(description="Used in node names.")
    count: Count = Count()
    apart: bool = Field(default=False, description="No two nodes of this role on one host.")
    datastore: Literal["shared", "local", "any"] = Field(default="any", description="Preferred kind of datastore.")
    after: tuple[Ident, ...] = Field(default=(), description="Roles whose nodes must answer before this one starts.")


class Rule(_Part):
    """What a typed value must look like."""

    min_length: int = 0
    max_length: int = 4096
    classes: int = Field(default=0, ge=0, le=4, description="How many of lower case, upper case, digits and signs must occur.")
    pattern: str = ""
    choices: tuple[str, ...] = ()


class Question(_Part):
    """A value the product needs that no other column gives."""

    id: Ident
    label: str
    scope: Literal["plan", "role", "node"] = "plan"
    default: str = ""
    required: bool = True
    secret: bool = False
    rule: Rule = Rule()
    property: str = Field(default="", description="The package's own question this one stands for; its rules are added.")


class Await(_Part):
    """A wait: expected and longest time in seconds."""

    expected: float = Field(gt=0)
    longest: float = Field(gt=0)


class Call(_Part):
    """An HTTP request to a node's own interface. `{...}` in `body` values are filled from the sheet and from what was kept."""

    method: Literal["GET", "POST"] = "GET"
    path: str
    body: dict[str, str] = {}
    keep: dict[str, str] = Field(default={}, description="Name → member of the JSON answer that is kept, as a secret.")
    login: bool = Field(default=True, description="Send the administrator's name and password.")
    confirm: dict[str, str] = Field(default={}, description="Members of the JSON answer that must have these values.")


class Service(_Part):
    """How a node says that its services are up."""

    port: int = Field(ge=1, le=65535)
    path: str
    members: str = Field(default="", description="Where the first node lists the cluster's members (name and role of each).")
    ready: dict[str, str] = Field(description="Members of the JSON answer and the values they have when ready.")


class Forming(_Part):
    """A step after a node's services answer, or for the whole cluster."""

    id: Ident
    label: str
    role: str = Field(description="The role whose nodes do it, or “cluster” for once at the end, by the first node.")
    call: Call
    wait: Await
    observe: Call | None = Field(default=None, description="A request that tells whether it has happened already.")


class Proof(_Part):
    """One line of the acceptance list. `kind` selects what is measured; the rest are its limits."""

    id: Ident
    label: str
    of: Literal["node", "cluster"] = "node"
    kind: Literal["running", "hardware", "host", "name", "address", "gateway", "clock", "port", "version", "role", "members", "one-lead"]
    limit: float = 0.0


class Durations(_Part):
    """Expected seconds of what does not depend on size."""

    boot: Await
    services: Await
    define: float = 1.0
    start: float = 2.0
    medium: float = 1.0


class SizeAdvice(_Part):
    """What a size carries, by the product's own guide."""

    size: str
    carries: str


class Span(_Part):
    """A number with the maker's limits."""

    least: int = Field(default=0, ge=0, le=65_536)
    most: int = Field(default=0, ge=0, le=65_536)
    usual: int = Field(default=0, ge=0, le=65_536)


class ExtraDisk(_Part):
    """A disk that the product's guide asks for beside those of the package."""

    id: Ident
    label: str
    purpose: str = ""
    roles: tuple[Ident, ...] = Field(default=(), description="Roles that get it; empty: all.")
    size_gib: Span = Field(description="Size of each in GiB, by the maker's guide.")
    count: Span = Field(default=Span(least=0, most=1, usual=1), description="How many.")
    controller: Literal["virtio", "scsi", "sata"] = "virtio"


class Accepts(_Part):
    """Which packages a kit can be used with."""

    product: str
    versions: tuple[str, ...] = Field(default=(), description="Accepted beginnings of the version, such as “4.”; empty: any.")


class Kit(_Part):
    """A product family: roles, questions, order of forming, acceptance."""

    nimble_stone: Literal["kit/1"] = Field(alias="nimble-stone")
    id: Ident
    title: str
    summary: str = ""
    accepts: Accepts
    names: str = Field(default="{plan}-{short}-{n}", description="Pattern of node names; single nodes of a role lose “-{n}”.")
    admin: str = "admin"
    admin_password: str = Field(description="The question that holds the administrator's password.")
    roles: tuple[Role, ...] = Field(min_length=1)
    sizes: tuple[SizeAdvice, ...] = ()
    extra_disks: tuple[ExtraDisk, ...] = ()
    questions: tuple[Question, ...] = ()
    environment: dict[str, str] = Field(description="Package question → template over the sheet's columns.")
    service: Service
    ssh: bool = Field(default=True, description="Nodes can be logged in to by SSH as the administrator.")
    forming: tuple[Forming, ...] = ()
    durations: Durations
    acceptance: tuple[Proof, ...] = ()

    @model_validator(mode="after")
    def _refers_to_what_exists(self) -> Kit:
        roles = {role.id for role in self.roles}
        for role in self.roles:
            if unknown := set(role.after) - roles:
                raise ValueError(f"role “{role.id}” comes after “{sorted(unknown)[0]}”, which is no role of this kit")
        for disk in self.extra_disks:
            if unknown := set(disk.roles) - roles:
                raise ValueError(f"extra disk “{disk.id}” is for “{sorted(unknown)[0]}”, which is no role of this kit")
            for name, span in (("size_gib", disk.size_gib), ("count", disk.count)):
                if not span.least <= span.usual <= span.most:
                    raise ValueError(f"extra disk “{disk.id}”: {name} needs least ≤ usual ≤ most")
        for step in self.forming:
            if step.role != "cluster" and step.role not in roles:
                raise ValueError(f"forming step “{step.id}” is for “{step.role}”, which is no role of this kit")
        if self.admin_password not in {question.id for question in self.questions}:
            raise ValueError(f"admin_password names “{self.admin_password}”, which is no question of this kit")
        return self

    def role(self, ident: str) -> Role | None:
        """The role of that id."""
        return next((role for role in self.roles if role.id == ident), None)

    def question(self, ident: str) -> Question | None:
        """The question of that id."""
        return next((question for question in self.questions if question.id == ident), None)
