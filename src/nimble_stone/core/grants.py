"""Which keyring entries a plan may open: its own, and those that a person granted to it by name.

An entry's name tells whose it is. What plans, kits, shared values and tables write is never
enough to open another plan's: whoever writes a file is not whoever may hand a password on.
"""

from __future__ import annotations

from collections.abc import Collection

from nimble_stone.core.estate import Estate

PREFIX = "keyring:"
AUTHORITY = "authority"
INTERNAL = ("run/", "take-in/", "installation/")
"""Entries of the installation itself: the authority's key and that of machine reports, what runs
keep for their nodes, and web addresses that packages are fetched from.
"""


def own_prefix(plan: str) -> str:
    """How the names of a plan's own entries begin."""
    return f"plan/{plan}/"


def hosts_entry(plan: str) -> str:
    """The entry with the key of the hosts that a plan built. It is a login of hosts, not the
    plan's.
    """
    return f"hosts/{plan}"


def is_internal(entry: str) -> bool:
    """Whether an entry belongs to the installation and is never granted."""
    return entry == AUTHORITY or entry.startswith(INTERNAL)


def may_open(plan: str, entry: str, granted: Collection[str]) -> bool:
    """Whether a plan may open an entry. `granted`: names of entries granted to this plan."""
    if entry.startswith(own_prefix(plan)):
        return True
    return entry in granted and not is_internal(entry)


def owner_of(entry: str, estate: Estate) -> str:
    """Whose an entry is, in words that follow “it belongs to”: “plan western”, “the login of 2
    hosts
    (fulmar, gannet)”, “this installation”, “no plan or host”."""
    if is_internal(entry):
        return "this installation"
    kind, _, rest = entry.partition("/")
    if kind == "plan" and "/" in rest:
        return f"plan {rest.partition('/')[0]}"
    logins = [host.name for host in estate.hosts if host.credential == entry]
    logins += [machine.name for machine in estate.machines if machine.credential == entry]
    networks = [one.name for one in estate.networks if one.name_credential == entry]
    if networks and not logins:
        return f"the name server of network {networks[0]}"
    if not logins:
        return "no plan or host"
    shown = ", ".join(sorted(logins)[:3]) + (", …" if len(logins) > 3 else "")
    word = "host or machine" if len(logins) == 1 else "hosts and machines"
    return f"the login of {len(logins)} {word} ({shown})"
