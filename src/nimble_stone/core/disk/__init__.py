"""Reading and writing virtual disks as iterators over extents: holes are never touched."""
