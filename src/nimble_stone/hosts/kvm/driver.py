"""A KVM host, agentless over SSH: its parts share one conversation, which is recorded."""

from __future__ import annotations

from nimble_stone.hosts.api import HostDriver, Recorder, no_record
from nimble_stone.hosts.kvm.facts import KvmReading
from nimble_stone.hosts.kvm.preparation import KvmPreparation
from nimble_stone.hosts.kvm.probes import KvmProbes
from nimble_stone.hosts.kvm.session import Session
from nimble_stone.hosts.kvm.storage import KvmStorage
from nimble_stone.hosts.kvm.vms import KvmVms
from nimble_stone.reach import Reach, Target


class KvmHost(HostDriver):
    """One object per host and purpose. All its parts raise RemoteError and its kinds."""

    kind = "kvm"

    def __init__(self, reach: Reach, target: Target, record: Recorder = no_record) -> None:
        super().__init__(target.name)
        session = Session(reach, target, record)
        self._reading = KvmReading(session)
        self._probes = KvmProbes(session)
        self._storage = KvmStorage(session)
        self._vms = KvmVms(session)
        self._preparation = KvmPreparation(session)

    @property
    def reading(self) -> KvmReading:
        """Its facts."""
        return self._reading

    @property
    def probes(self) -> KvmProbes:
        """Questions to the network from there."""
        return self._probes

    @property
    def storage(self) -> KvmStorage:
        """Its datastores."""
        return self._storage

    @property
    def vms(self) -> KvmVms:
        """Its VMs."""
        return self._vms

    @property
    def preparation(self) -> KvmPreparation:
        """Its preparation."""
        return self._preparation
