"""What the rules look at."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address

from nimble_stone.core.deployment import Changes
from nimble_stone.core.estate import Estate, Facts
from nimble_stone.core.findings import Finding
from nimble_stone.core.plan.sheet import Sheet


@dataclass(frozen=True)
class Claim:
    """A name and addresses that another plan holds, and the host and memory it means to take; `run`
    is '' as long as it is only planned.
    """

    run: str
    plan: str
    name: str
    addresses: tuple[str, ...] = ()
    host: str = ""
    memory_bytes: int = 0
    vcpu: int = 0
    stores: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    """Datastore of its host → bytes at first and when full."""


def plans_text(claims: Sequence[Claim]) -> str:
    """“plan “eastern””, “plans “eastern”, “northern””."""
    names = list(dict.fromkeys(claim.plan for claim in claims))
    return (
        ("plan " if len(names) == 1 else "plans ")
        + ", ".join(f"“{name}”" for name in names[:3])
        + (f" and {len(names) - 3} more" if len(names) > 3 else "")
    )


@dataclass(frozen=True)
class SystemTrouble:
    """Why a system outside the plan cannot be used. `shown`: the fingerprint of the certificate, or
    of the `host_key`, that it presents, where none was confirmed; '' otherwise.
    """

    why: str
    shown: str = ""
    host_key: bool = False


@dataclass(frozen=True)
class Situation:
    """The plan resolved, the estate with facts, and what was found out about the live hosts.

    `answering`: address → what answered; `unasked`: address → why nobody could be asked.
    `verdicts`: secret reference → what it lacks (see
    secrets_rule); a reference that is
    absent does not exist. `licence_sha256`: of the joined licence texts of all packages, '' when
    there are none.
    """

    sheet: Sheet
    estate: Estate
    claims: tuple[Claim, ...] = ()
    answering: Mapping[str, str] = field(default_factory=dict)
    verdicts: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    pairs: Mapping[str, Mapping[str, tuple[str, ...]]] = field(default_factory=dict)
    """Reference of an uploaded certificate → node id → what is wrong with it for that node.
    """
    unreached: Mapping[str, str] = field(default_factory=dict)
    """“host:port” of a place beyond the plan that was tried from a host and not reached → why, and
    from where.
    """
    licence_sha256: str = ""
    fitting: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Role ('' for the plan's package) → packages taken in that would do, the newest first."""
    own_runs: frozenset[str] = frozenset()
    """Runs of this plan that stand."""
    changes: Changes | None = None
    """What a run would change of what stands; None: nothing stands."""
    now: float = 0.0
    """The instant of the check; 0: ages of facts are not judged."""
    # a person accepted these very texts on the packages' pages
    licence_recorded: bool = False
    unasked: Mapping[str, str] = field(default_factory=dict)
    gateways: Mapping[str, str] = field(default_factory=dict)
    """Gateway that does not answer the hosts of its nodes → why, and from where it was tried."""
    clocks: Mapping[str, str] = field(default_factory=dict)
    """Time server that tells them no time → the same."""
    misnamed: Mapping[str, str] = field(default_factory=dict)
    """Node → what its name or address is already, where that is something else."""
    name_servers: Mapping[str, str] = field(default_factory=dict)
    """Name server that was asked and takes no records of this plan → why."""
    names_taken: Mapping[str, str] = field(default_factory=dict)
    """Node → what the name server says its name or address is already, if it is not ours."""
    systems: Mapping[str, SystemTrouble] = field(default_factory=dict)
    """System outside the plan, by its id, that was asked and cannot be used as it is."""
    no_network_boot: str = ""
    """Why this server boots no machine from the network, '' when it does or is not asked."""
    on_built: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Host of the estate that is a node of this plan → the VMs on it."""
    withheld: Mapping[str, str] = field(default_factory=dict)
    """Reference of a keyring entry that this plan may not open → whose it is."""

    def facts(self, host: str) -> Facts | None:
        """Facts of a host, if any were read."""
        return self.estate.facts.get(host)

    def next_free(self) -> Callable[[str], str]:
        """A function giving the next free address of a node's pool, never the same twice; '' when
        there is none.
        """
        taken = (
            {address for claim in self.claims for address in claim.addresses}
            | set(self.answering)
            | {value for _, _, value in self.sheet.members()}
        )
        taken |= {str(network.gateway) for network in self.estate.networks}

        cursors: dict[str, Iterator[str]] = {}

        def free(pool_name: str) -> Iterator[str]:
            pool = self.estate.pool(pool_name)
            if pool is not None:
                excluded = {int(address) for address in pool.kept_out()}
                for number in range(int(pool.first), int(pool.last) + 1):
                    address = str(IPv4Address(number))
                    if number not in excluded and address not in taken:
                        yield address

        def give(pool_name: str) -> str:
            return next(cursors.setdefault(pool_name, free(pool_name)), "")

        return give


Rule = Callable[[Situation], Iterable[Finding]]
