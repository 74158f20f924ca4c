"""Failure domains: which nodes must not, or rather should not, share a host, a rack, a bay or a
site. Pure.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

By = Literal["host", "rack", "bay", "site"]
BYS: tuple[By, ...] = ("host", "rack", "bay", "site")


class Separation(BaseModel):
    """Nodes that are kept apart: no two of them in one failure domain."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    roles: tuple[str, ...] = Field(
        min_length=1, max_length=20, description="Roles whose nodes are kept apart."
    )
    by: By = Field(default="host", description="What no two of them share.")
    must: bool = Field(
        default=True,
        description="False: a wish. Placement keeps to it where it can, and a finding tells where"
        " not.",
    )

    @property
    def key(self) -> str:
        """The same for equal rules."""
        return f"{self.by}/{'must' if self.must else 'wish'}/{'+'.join(sorted(self.roles))}"


@dataclass(frozen=True)
class Domains:
    """Where a host or machine stands. '' where it is not known."""

    host: str
    rack: str = ""
    bay: str = ""
    site: str = ""

    def of(self, by: By) -> str:
        """The domain of a kind, unique in the estate; '' where it is not known. Racks are named
        within their site.
        """
        if by == "rack":
            return f"{self.site}/{self.rack}" if self.rack else ""
        return {"host": self.host, "bay": self.bay, "site": self.site}[by]

    def words(self, by: By) -> str:
        """“rack K2”, “site Kelda”, “gannet”."""
        if by == "host":
            return self.host
        name = {"rack": self.rack, "bay": self.bay, "site": self.site}[by]
        return f"{by} {name}" if name else f"an unknown {by}"


@dataclass(frozen=True)
class Clash:
    """Two nodes in one domain. `known`: False where the domain of `node` is not known, so that
    nobody can tell; `first` is then ''.
    """

    rule: Separation
    node: str
    first: str
    known: bool


def clashes(
    rules: Iterable[Separation],
    roles: Mapping[str, str],
    places: Mapping[str, Domains],
) -> Iterator[Clash]:
    """What breaks the rules. `roles`: node → its role, in the plan's order; `places`: node → where
    it stands. Each node is told once for each rule. Cost: O(rules × nodes).
    """
    for rule in rules:
        seen: dict[str, str] = {}
        for node, role in roles.items():
            place = places.get(node)
            if role not in rule.roles or place is None:
                continue
            domain = place.of(rule.by)
            if not domain:
                yield Clash(rule, node, "", known=False)
            elif domain in seen:
                yield Clash(rule, node, seen[domain], known=True)
            seen.setdefault(domain, node)


def stronger(rules: Iterable[Separation]) -> list[Separation]:
    """Each rule once: the must stays where the same is also wished."""
    kept: dict[tuple[By, tuple[str, ...]], Separation] = {}
    for rule in rules:
        at = (rule.by, tuple(sorted(rule.roles)))
        if at not in kept or rule.must:
            kept[at] = rule
    return list(kept.values())
