-- Media on offer to bare machines, by the digest of the one-time address, and whether the machine reported by it.
CREATE TABLE medium (token_sha256 TEXT PRIMARY KEY, run TEXT NOT NULL REFERENCES run(id) ON DELETE CASCADE, machine TEXT NOT NULL, task TEXT NOT NULL, until REAL NOT NULL,
  fetched_at REAL, booted_at REAL, reported_at REAL, trouble TEXT NOT NULL DEFAULT '') STRICT;
CREATE INDEX medium_of_run ON medium(run, machine);
