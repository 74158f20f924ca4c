-- Keyring entries that a person granted to a plan. A plan's own entries (plan/NAME/…) need no row.
CREATE TABLE secret_grant (secret TEXT NOT NULL REFERENCES secret(name) ON DELETE CASCADE, plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE,
  at REAL NOT NULL, PRIMARY KEY (secret, plan)) STRICT;

-- Tokens of the command line and of scripts: apart from the access key, each revocable. Only their digests are kept.
CREATE TABLE token (id TEXT PRIMARY KEY, name TEXT NOT NULL, sha256 TEXT NOT NULL UNIQUE, made_at REAL NOT NULL, used_at REAL) STRICT;

-- Web addresses of take-ins that have ended are kept without what may be secret: user, password, query.
UPDATE take_in SET origin = substr(origin, 1, instr(origin, '?')) || '••••'
  WHERE source = 'url' AND instr(origin, '?') > 0 AND state NOT IN ('receiving', 'verifying');
UPDATE take_in SET origin = substr(origin, 1, instr(origin, '://') + 2) || '••••@' || substr(origin, instr(origin, '@') + 1)
  WHERE source = 'url' AND origin GLOB '*://*@*' AND state NOT IN ('receiving', 'verifying');

-- Rolling back leaves what was: when a run and its steps began and ended, and what they said. Its own times and words stand beside.
ALTER TABLE run ADD COLUMN undone_at REAL;
ALTER TABLE run_step ADD COLUMN undone_at REAL;
ALTER TABLE run_step ADD COLUMN undo_message TEXT NOT NULL DEFAULT '';
ALTER TABLE run_step ADD COLUMN undo_failed INTEGER NOT NULL DEFAULT 0;

-- A command that is asked again and again with the same answer is one entry that counts.
ALTER TABLE transcript ADD COLUMN times INTEGER NOT NULL DEFAULT 1;
ALTER TABLE transcript ADD COLUMN last_at REAL;
