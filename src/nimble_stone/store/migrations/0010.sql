-- What stands otherwise than it was built, and when each deployment was last read.
CREATE TABLE drift (plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE, node TEXT NOT NULL, what TEXT NOT NULL, label TEXT NOT NULL, was TEXT NOT NULL,
  now TEXT NOT NULL, since REAL NOT NULL, seen REAL NOT NULL, reason TEXT NOT NULL, until REAL NOT NULL, PRIMARY KEY (plan, node, what)) STRICT;
CREATE TABLE drift_reading (plan TEXT PRIMARY KEY REFERENCES plan(id) ON DELETE CASCADE, at REAL NOT NULL, checks INTEGER NOT NULL, unasked INTEGER NOT NULL,
  trouble TEXT NOT NULL) STRICT;
