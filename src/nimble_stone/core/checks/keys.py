"""Rules about certificates and SSH keys."""

from __future__ import annotations

from collections.abc import Iterator

from nimble_stone.core.checks.situation import Situation
from nimble_stone.core.checks.values import withheld
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.plan.cells import MADE_HERE, is_made_here
from nimble_stone.core.ssh_keys import ssh_key_fault


def ssh_keys(s: Situation) -> Iterator[Finding]:
    """What is to be an SSH public key is one."""
    for column in s.sheet.columns:
        if column.kind != "ssh-key":
            continue
        told: set[str] = set()
        for node in s.sheet.nodes:
            value = node.value(column.id)
            if value and value not in told:
                told.add(value)
                if fault := ssh_key_fault(value):
                    yield Finding(
                        severity="blocker",
                        code="ssh-key",
                        node=node.id,
                        column=column.id,
                        message=f"{column.label} {fault}.",
                        consequence="No login will be possible.",
                        remedy=Remedy(label="Paste the public key (the file that ends in .pub)"),
                    )


def certificates(s: Situation) -> Iterator[Finding]:
    """An uploaded certificate is in the keyring, valid, and issued to its nodes."""
    for one in s.sheet.kit.certificates:
        column = f"certificate.{one.id}"
        told: set[tuple[str, str]] = set()
        for node in s.sheet.nodes:
            value = node.value(column)
            if not value or is_made_here(value):
                continue
            back = Remedy(
                label="Let one be made here", edit=Edit(path=("values", column), value=MADE_HERE)
            )
            if not value.startswith("keyring:"):
                yield Finding(
                    severity="blocker",
                    code="certificate-unknown",
                    node=node.id,
                    column=column,
                    message=(
                        f"{one.label} is “{value[:40]}”, which is neither “{MADE_HERE}” nor a pair"
                        " in the keyring."
                    ),
                    consequence="The node would get no certificate.",
                    remedy=back,
                )
            elif value in s.withheld:
                if (value, "") not in told:
                    told.add((value, ""))
                    yield withheld(s, value, node.id, column)
            elif value not in s.pairs:
                yield Finding(
                    severity="blocker",
                    code="certificate-missing",
                    node=node.id,
                    column=column,
                    message=f"The keyring has no pair “{value.removeprefix('keyring:')}”.",
                    consequence="The node would get no certificate.",
                    remedy=back,
                )
            else:
                for fault in s.pairs[value].get(node.id, ()):
                    if (value, fault) not in told:
                        told.add((value, fault))
                        yield Finding(
                            severity="caution" if fault.startswith("expires") else "blocker",
                            code="certificate",
                            node=node.id,
                            column=column,
                            message=f"{one.label} of {node.name} {fault}.",
                            consequence="Clients would be warned of the node, or turn away.",
                            remedy=Remedy(
                                label="Upload a matching pair, or generate one here",
                                edit=back.edit,
                            ),
                        )
