-- Keyring entries that a person granted to a plan. A plan's own entries (plan/NAME/…) need no row.
CREATE TABLE secret_grant (secret TEXT NOT NULL REFERENCES secret(name) ON DELETE CASCADE, plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE,
  at REAL NOT NULL, PRIMARY KEY (secret, plan)) STRICT;

-- Tokens of the command line and of scripts: apart from the access key, each revocable. Only their digests are kept.
CREATE TABLE token (id TEXT PRIMARY KEY, name TEXT NOT NULL, sha256 TEXT NOT NULL UNIQUE, made_at REAL NOT NULL, used_at REAL) STRICT;
