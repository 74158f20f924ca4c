-- Bare machines and what was read of them; rules that bays set themselves; what is decided about datastores; runs that prepare hosts.
CREATE TABLE estate_item_new (kind TEXT NOT NULL CHECK (kind IN ('network','pool','host','machine')), name TEXT NOT NULL, doc TEXT NOT NULL,
  PRIMARY KEY (kind, name)) STRICT;
INSERT INTO estate_item_new SELECT kind, name, doc FROM estate_item;
DROP TABLE estate_item;
ALTER TABLE estate_item_new RENAME TO estate_item;

CREATE TABLE machine_facts (machine TEXT PRIMARY KEY, doc TEXT NOT NULL, read_at REAL NOT NULL) STRICT;
CREATE TABLE rule_setting (bay TEXT NOT NULL, rule TEXT NOT NULL, off INTEGER NOT NULL, own_limit REAL, reason TEXT NOT NULL, at REAL NOT NULL,
  PRIMARY KEY (bay, rule)) STRICT;
CREATE TABLE store_care (place TEXT PRIMARY KEY, watermark REAL NOT NULL, protection TEXT NOT NULL) STRICT;

CREATE TABLE run_new (id TEXT PRIMARY KEY, kind TEXT NOT NULL CHECK (kind IN ('rollout','groundwork')), plan TEXT NOT NULL,
  package TEXT REFERENCES package(sha256), state TEXT NOT NULL
  CHECK (state IN ('running','held','trouble','proving','done','unproved','undoing','undone')),
  doc TEXT NOT NULL, started_at REAL NOT NULL, ended_at REAL) STRICT;
INSERT INTO run_new SELECT id, 'rollout', plan, package, state, doc, started_at, ended_at FROM run;
DROP TABLE run;
ALTER TABLE run_new RENAME TO run;
