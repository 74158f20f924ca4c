-- Values that several plans include; what plans hold, so that no other plan is given the same; a count of the estate's changes.
CREATE TABLE shared_values (name TEXT PRIMARY KEY, version INTEGER NOT NULL, text TEXT NOT NULL, changed_at REAL NOT NULL) STRICT;
CREATE TABLE claim (plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE, node TEXT NOT NULL, name TEXT NOT NULL, host TEXT NOT NULL, computed INTEGER NOT NULL,
  memory_bytes INTEGER NOT NULL, vcpu INTEGER NOT NULL, PRIMARY KEY (plan, node)) STRICT;
CREATE TABLE claim_member (member TEXT PRIMARY KEY, plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE, slot TEXT NOT NULL,
  drawn INTEGER NOT NULL) STRICT;
CREATE INDEX claim_member_plan ON claim_member (plan);
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
