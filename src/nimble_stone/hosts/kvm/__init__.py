"""The driver of KVM hosts. What is sent to them and how their answers are read stands here and
nowhere else.
"""

from nimble_stone.hosts.kvm import sudo
from nimble_stone.hosts.kvm.actions import work
from nimble_stone.hosts.kvm.driver import KvmHost
from nimble_stone.hosts.kvm.first_look import first_look

__all__ = ["KvmHost", "first_look", "sudo", "work"]
