-- Packages of every kind, their channel and notes; take-ins; publishers that are trusted; accepted licences; copies kept on datastores.
ALTER TABLE package ADD COLUMN kind TEXT NOT NULL DEFAULT 'ova';
ALTER TABLE package ADD COLUMN channel TEXT NOT NULL DEFAULT '';
ALTER TABLE package ADD COLUMN note TEXT NOT NULL DEFAULT '';

CREATE TABLE take_in (id TEXT PRIMARY KEY, source TEXT NOT NULL CHECK (source IN ('upload','url','folder')), name TEXT NOT NULL, origin TEXT NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('receiving','verifying','done','failed','stopped')), files TEXT NOT NULL, sha256 TEXT NOT NULL DEFAULT '',
  package TEXT NOT NULL DEFAULT '', problem TEXT NOT NULL DEFAULT '', began_at REAL NOT NULL, changed_at REAL NOT NULL) STRICT;

CREATE TABLE trusted (fingerprint TEXT PRIMARY KEY, subject TEXT NOT NULL, not_after REAL NOT NULL, pem TEXT NOT NULL, added_at REAL NOT NULL) STRICT;

CREATE TABLE acceptance (text_sha256 TEXT NOT NULL, by TEXT NOT NULL, at REAL NOT NULL, package TEXT NOT NULL, PRIMARY KEY (text_sha256, by)) STRICT;

CREATE TABLE copy (place TEXT NOT NULL, name TEXT NOT NULL, digest TEXT NOT NULL, size INTEGER NOT NULL, package TEXT NOT NULL, host TEXT NOT NULL,
  datastore TEXT NOT NULL, made_by TEXT NOT NULL, made_at REAL NOT NULL, used_at REAL NOT NULL, PRIMARY KEY (place, name)) STRICT;
