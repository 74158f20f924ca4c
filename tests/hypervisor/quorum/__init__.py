"""An unattended installer of the tests' own: Debian's kernel, busybox and etcd. Its ISO boots by
BIOS and UEFI, and so does the drive that it installs to.
"""
