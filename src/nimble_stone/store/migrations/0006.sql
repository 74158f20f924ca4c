-- Keyring entries that a person granted to a plan. A plan's own entries (plan/NAME/…) need no row.
CREATE TABLE secret_grant (secret TEXT NOT NULL REFERENCES secret(name) ON DELETE CASCADE, plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE,
  at REAL NOT NULL, PRIMARY KEY (secret, plan)) STRICT;
