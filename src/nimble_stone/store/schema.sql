-- Today's full schema. Instants are epoch seconds (REAL), documents JSON text.
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;

-- Secrets: sealed by the keyring; the key lies in a file, not here.
CREATE TABLE secret (name TEXT PRIMARY KEY, kind TEXT NOT NULL, sealed BLOB NOT NULL, made_at REAL NOT NULL) STRICT;

-- Host keys, pinned at first use.
CREATE TABLE pin (place TEXT PRIMARY KEY, fingerprint TEXT NOT NULL, first_at REAL NOT NULL) STRICT;

CREATE TABLE session (token_sha256 TEXT PRIMARY KEY, csrf TEXT NOT NULL, expires_at REAL NOT NULL) STRICT;

CREATE TABLE estate_item (kind TEXT NOT NULL CHECK (kind IN ('network','pool','host','machine','series')), name TEXT NOT NULL, doc TEXT NOT NULL,
  PRIMARY KEY (kind, name)) STRICT;
CREATE TABLE facts (host TEXT PRIMARY KEY, doc TEXT NOT NULL, read_at REAL NOT NULL) STRICT;
CREATE TABLE machine_facts (machine TEXT PRIMARY KEY, doc TEXT NOT NULL, read_at REAL NOT NULL) STRICT;

-- Rules that a bay has switched off or set a limit for, with the reason; what is decided about datastores (place: host/name, or the export).
CREATE TABLE rule_setting (bay TEXT NOT NULL, rule TEXT NOT NULL, off INTEGER NOT NULL, own_limit REAL, reason TEXT NOT NULL, at REAL NOT NULL,
  PRIMARY KEY (bay, rule)) STRICT;
CREATE TABLE store_care (place TEXT PRIMARY KEY, watermark REAL NOT NULL, protection TEXT NOT NULL) STRICT;

CREATE TABLE package (sha256 TEXT PRIMARY KEY, product TEXT NOT NULL, version TEXT NOT NULL, doc TEXT NOT NULL, size INTEGER NOT NULL,
  thin_bytes INTEGER NOT NULL, file_name TEXT NOT NULL, added_at REAL NOT NULL, kind TEXT NOT NULL DEFAULT 'ova', channel TEXT NOT NULL DEFAULT '',
  note TEXT NOT NULL DEFAULT '') STRICT;

CREATE TABLE plan (id TEXT PRIMARY KEY, version INTEGER NOT NULL, text TEXT NOT NULL, changed_at REAL NOT NULL) STRICT;
CREATE TABLE plan_version (plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE, version INTEGER NOT NULL, text TEXT NOT NULL, at REAL NOT NULL,
  PRIMARY KEY (plan, version)) STRICT;

-- A run freezes everything it needs. A rollout: the plan with every cell written out, the kit, the package, the steps. Groundwork: its actions.
CREATE TABLE run (id TEXT PRIMARY KEY, kind TEXT NOT NULL CHECK (kind IN ('rollout','groundwork')), plan TEXT NOT NULL,
  package TEXT REFERENCES package(sha256), state TEXT NOT NULL
  CHECK (state IN ('running','held','trouble','proving','done','unproved','undoing','undone')),
  doc TEXT NOT NULL, started_at REAL NOT NULL, ended_at REAL, undone_at REAL, reason TEXT NOT NULL DEFAULT '') STRICT;
CREATE TABLE run_step (run TEXT NOT NULL REFERENCES run(id), key TEXT NOT NULL, place INTEGER NOT NULL, state TEXT NOT NULL
  CHECK (state IN ('planned','working','waiting','done','failed','skipped','undoing','undone')),
  attempt INTEGER NOT NULL DEFAULT 0, started_at REAL, ended_at REAL, message TEXT NOT NULL DEFAULT '',
  undone_at REAL, undo_message TEXT NOT NULL DEFAULT '', undo_failed INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (run, key)) STRICT;

-- The journal: append-only.
CREATE TABLE run_event (id INTEGER PRIMARY KEY AUTOINCREMENT, run TEXT NOT NULL REFERENCES run(id), at REAL NOT NULL, step TEXT NOT NULL,
  kind TEXT NOT NULL, payload TEXT NOT NULL) STRICT;
CREATE INDEX run_event_run ON run_event (run, id);
CREATE TRIGGER run_event_no_update BEFORE UPDATE ON run_event BEGIN SELECT RAISE(ABORT, 'the journal is append-only'); END;
CREATE TRIGGER run_event_no_delete BEFORE DELETE ON run_event BEGIN SELECT RAISE(ABORT, 'the journal is append-only'); END;

CREATE TABLE transcript (id INTEGER PRIMARY KEY AUTOINCREMENT, run TEXT NOT NULL, step TEXT NOT NULL, at REAL NOT NULL, target TEXT NOT NULL,
  command TEXT NOT NULL, answer TEXT NOT NULL, status INTEGER NOT NULL, seconds REAL NOT NULL, times INTEGER NOT NULL DEFAULT 1, last_at REAL) STRICT;
CREATE INDEX transcript_step ON transcript (run, step, id);

CREATE TABLE proof (run TEXT NOT NULL REFERENCES run(id), round INTEGER NOT NULL, at REAL NOT NULL, doc TEXT NOT NULL,
  PRIMARY KEY (run, round)) STRICT;

-- Bringing packages in: one row per attempt, kept with its reason when it fails.
CREATE TABLE take_in (id TEXT PRIMARY KEY, source TEXT NOT NULL CHECK (source IN ('upload','url','folder')), name TEXT NOT NULL, origin TEXT NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('receiving','verifying','done','failed','stopped')), files TEXT NOT NULL, sha256 TEXT NOT NULL DEFAULT '',
  package TEXT NOT NULL DEFAULT '', problem TEXT NOT NULL DEFAULT '', began_at REAL NOT NULL, changed_at REAL NOT NULL) STRICT;

-- Publishers the team trusts.
CREATE TABLE trusted (fingerprint TEXT PRIMARY KEY, subject TEXT NOT NULL, not_after REAL NOT NULL, pem TEXT NOT NULL, added_at REAL NOT NULL) STRICT;

-- Licence texts, accepted by whom and when.
CREATE TABLE acceptance (text_sha256 TEXT NOT NULL, by TEXT NOT NULL, at REAL NOT NULL, package TEXT NOT NULL, PRIMARY KEY (text_sha256, by)) STRICT;

-- Disks of packages that lie on datastores, ready to be cloned there. `place`: the datastore, once for all hosts that share it.
CREATE TABLE copy (place TEXT NOT NULL, name TEXT NOT NULL, digest TEXT NOT NULL, size INTEGER NOT NULL, package TEXT NOT NULL, host TEXT NOT NULL,
  datastore TEXT NOT NULL, made_by TEXT NOT NULL, made_at REAL NOT NULL, used_at REAL NOT NULL, PRIMARY KEY (place, name)) STRICT;

-- Values that several plans include.
CREATE TABLE shared_values (name TEXT PRIMARY KEY, version INTEGER NOT NULL, text TEXT NOT NULL, changed_at REAL NOT NULL) STRICT;

-- What plans hold, so that no other plan is given the same; `slot` is node/column.
CREATE TABLE claim (plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE, node TEXT NOT NULL, name TEXT NOT NULL, host TEXT NOT NULL, computed INTEGER NOT NULL,
  memory_bytes INTEGER NOT NULL, vcpu INTEGER NOT NULL, stores TEXT NOT NULL DEFAULT '{}', PRIMARY KEY (plan, node)) STRICT;
CREATE TABLE claim_member (member TEXT PRIMARY KEY, plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE, slot TEXT NOT NULL,
  drawn INTEGER NOT NULL) STRICT;
CREATE INDEX claim_member_plan ON claim_member (plan);

-- How often the estate changed: whoever keeps it in memory knows when it is old.
CREATE TABLE change_count (what TEXT PRIMARY KEY, number INTEGER NOT NULL) STRICT;
INSERT INTO change_count VALUES ('estate', 1), ('claims', 1);
CREATE TRIGGER estate_item_insert_counts AFTER INSERT ON estate_item BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER estate_item_update_counts AFTER UPDATE ON estate_item BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER estate_item_delete_counts AFTER DELETE ON estate_item BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER facts_insert_counts AFTER INSERT ON facts BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER facts_update_counts AFTER UPDATE ON facts BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER facts_delete_counts AFTER DELETE ON facts BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER machine_facts_insert_counts AFTER INSERT ON machine_facts BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER machine_facts_update_counts AFTER UPDATE ON machine_facts BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER machine_facts_delete_counts AFTER DELETE ON machine_facts BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER rule_setting_insert_counts AFTER INSERT ON rule_setting BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER rule_setting_update_counts AFTER UPDATE ON rule_setting BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER rule_setting_delete_counts AFTER DELETE ON rule_setting BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER store_care_insert_counts AFTER INSERT ON store_care BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER store_care_update_counts AFTER UPDATE ON store_care BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER store_care_delete_counts AFTER DELETE ON store_care BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;

-- What nodes were given while a run went on, such as an address by DHCP.
CREATE TABLE learned (run TEXT NOT NULL REFERENCES run(id) ON DELETE CASCADE, node TEXT NOT NULL, col TEXT NOT NULL, value TEXT NOT NULL,
  PRIMARY KEY (run, node, col)) STRICT;

-- Keyring entries that a person granted to a plan. A plan's own entries (plan/NAME/…) need no row.
CREATE TABLE secret_grant (secret TEXT NOT NULL REFERENCES secret(name) ON DELETE CASCADE, plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE,
  at REAL NOT NULL, PRIMARY KEY (secret, plan)) STRICT;

-- Tokens of the command line and of scripts: apart from the access key, each revocable. Only their digests are kept.
CREATE TABLE token (id TEXT PRIMARY KEY, name TEXT NOT NULL, sha256 TEXT NOT NULL UNIQUE, made_at REAL NOT NULL, used_at REAL) STRICT;

-- Media on offer to bare machines, by the digest of the one-time address, and whether the machine reported by it.
CREATE TABLE medium (token_sha256 TEXT PRIMARY KEY, run TEXT NOT NULL REFERENCES run(id) ON DELETE CASCADE, machine TEXT NOT NULL, task TEXT NOT NULL, until REAL NOT NULL,
  fetched_at REAL, booted_at REAL, reported_at REAL, trouble TEXT NOT NULL DEFAULT '') STRICT;
CREATE INDEX medium_of_run ON medium(run, machine);

-- What stands otherwise than it was built, and when each deployment was last read.
CREATE TABLE drift (plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE, node TEXT NOT NULL, what TEXT NOT NULL, label TEXT NOT NULL, was TEXT NOT NULL,
  now TEXT NOT NULL, since REAL NOT NULL, seen REAL NOT NULL, reason TEXT NOT NULL, until REAL NOT NULL, PRIMARY KEY (plan, node, what)) STRICT;
CREATE TABLE drift_reading (plan TEXT PRIMARY KEY REFERENCES plan(id) ON DELETE CASCADE, at REAL NOT NULL, checks INTEGER NOT NULL, unasked INTEGER NOT NULL,
  trouble TEXT NOT NULL) STRICT;

-- What was found otherwise than it was built, and what became of it: the drift table has only what is so now.
CREATE TABLE drift_event (id INTEGER PRIMARY KEY, plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE, at REAL NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('found','changed','gone','accepted','reopened')), node TEXT NOT NULL, label TEXT NOT NULL,
  was TEXT NOT NULL, now TEXT NOT NULL, reason TEXT NOT NULL) STRICT;
CREATE INDEX drift_event_of_plan ON drift_event(plan, at);

-- Texts of kits as they were seen, so that an earlier one can be read and used again.
CREATE TABLE kit_version (kit TEXT NOT NULL, number INTEGER NOT NULL, at REAL NOT NULL, text TEXT NOT NULL, PRIMARY KEY (kit, number)) STRICT;
