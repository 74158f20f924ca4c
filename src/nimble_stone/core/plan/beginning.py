"""What a new plan begins with: pools and networks that the bay offers for what the kit
asks. Pure.
"""

from __future__ import annotations

from nimble_stone.core.estate import Estate, Network
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.columns import network_column


def beginning(kit: Kit, bay: str, estate: Estate) -> dict[str, str]:
    """Values by column. The service network is one that all hosts of the bay carry, with name
    servers and a pool; further network roles get further ones.

    What the bay cannot offer is left out: a check asks for it.
    """
    carried = _carried(bay, estate)
    left = sorted(
        (network for network in estate.networks if network.name in carried),
        key=lambda network: (
            not network.dns,
            not _pool(network, estate, bay),
            -carried[network.name],
            "management" in network.name,
            network.name,
        ),
    )
    found: dict[str, str] = {}
    service = next((network for network in left if _pool(network, estate, bay)), None)
    if service is None:
        return found
    found["pool"] = _pool(service, estate, bay)
    left.remove(service)
    for role in kit.networks:
        wide = [network for network in left if not role.mtu or (network.mtu or 1500) >= role.mtu]
        fit = next(
            (network for network in wide if not role.addressed or _pool(network, estate, bay)), None
        )
        if fit is not None:
            if role.addressed:
                found[network_column(role.id, "pool")] = _pool(fit, estate, bay)
            else:
                found[network_column(role.id, "network")] = fit.name
            left.remove(fit)
        elif not role.addressed:
            found[network_column(role.id, "network")] = service.name
    return found


def _carried(bay: str, estate: Estate) -> dict[str, int]:
    count: dict[str, int] = {}
    for host in estate.bay(bay):
        for network in estate.facts[host.name].networks if host.name in estate.facts else ():
            count[network.name] = count.get(network.name, 0) + 1
    return count


def _pool(network: Network, estate: Estate, bay: str) -> str:
    """The pool of a network that bears the bay's name, else the first."""
    names = [pool.name for pool in estate.pools if pool.network == network.name]
    near = [name for name in names if name == bay or name.split("-")[0] == bay.split("-")[0]]
    return (near or names or [""])[0]
