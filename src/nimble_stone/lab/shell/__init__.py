"""What a stand-in host has below its hypervisor: commands, files, disks, interfaces."""
