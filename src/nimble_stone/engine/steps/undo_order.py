"""In which order what a run made is rolled back."""

UNDO_STAGE = {
    "leave": 0,
    "retire": 0,
    "enroll": 0,
    "call": 1,
    "names": 1,
    "first-password": 1,
    "boot-files": 4,
    "installer-medium": 3,
    "install-vm": 1,
    "vm-eject": 1,
    "delay": 1,
    "services": 1,
    "host-keys": 1,
    "boot": 1,
    "learn": 1,
    "start": 1,
    "power-on": 1,
    "unseed": 2,
    "seed": 2,
    "eject": 3,
    "write": 3,
    "medium-boot": 3,
    "insert": 4,
    "install": 3,
    "insert-installer": 4,
    "answer-room": 4,
    "unpack": 4,
    "define": 2,
    "medium": 3,
    "clone": 3,
    "tidy": 3,
    "carry": 4,
}
"""In which order things are taken back: hosts that were built before what they are, guests before
their disks, disks before the copies they were made from.
"""
