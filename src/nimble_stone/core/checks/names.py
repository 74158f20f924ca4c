"""Name records that the rollout shall create: somebody takes them, and nothing else has them."""

from __future__ import annotations

from collections.abc import Iterator

from nimble_stone.core import names
from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.plan.columns import RECORDS


def creatable(s: Situation) -> Iterator[Finding]:
    """The network of each node has a server for its records, and a domain."""
    told = set[str]()
    for node in s.sheet.nodes:
        if not names.wanted(node):
            continue
        network = s.estate.network(node.value("network"))
        if network is not None and network.name_server is None and network.name not in told:
            # one answer puts it right for all nodes
            told.add(network.name)
            yield Finding(
                severity="blocker",
                code="names-no-server",
                node=node.id,
                column=RECORDS,
                message=f"Network {network.name} has no name server that takes records.",
                consequence="No name records can be created for nodes on it.",
                remedy=Remedy(
                    label="Leave the records to their keeper",
                    edit=Edit(path=("values", RECORDS), value="leave"),
                ),
            )
        if not node.value("domain"):
            yield Finding(
                severity="blocker",
                code="names-no-domain",
                node=node.id,
                column="domain",
                message=f"{node.name} has no domain.",
                consequence="Its name records would lie in no zone.",
                remedy=Remedy(label="Enter the domain"),
            )


def answered(s: Situation) -> Iterator[Finding]:
    """Name servers were asked: each takes our key and holds the zones, and no name is taken."""
    for server, why in s.name_servers.items():
        yield Finding(
            severity="blocker",
            code="names-refused",
            column=RECORDS,
            message=f"Name server {server} takes no records: {why}.",
            consequence="The rollout would stop at the first name record.",
            remedy=Remedy(label="Correct server, key or zone on the network's page"),
        )
    for ident, why in s.names_taken.items():
        yield Finding(
            severity="blocker",
            code="name-taken",
            node=ident,
            column="name",
            message=f"{why}.",
            consequence="The rollout leaves it unchanged and would stop at this name.",
            remedy=Remedy(label="Choose another name, or let the record be removed"),
        )
