-- Texts of kits as they were seen, so that an earlier one can be read and used again.
CREATE TABLE kit_version (kit TEXT NOT NULL, number INTEGER NOT NULL, at REAL NOT NULL, text TEXT NOT NULL, PRIMARY KEY (kit, number)) STRICT;
