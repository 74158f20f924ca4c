-- Series (pools of MAC addresses, IPv6 addresses and numbers) are things of the estate too.
CREATE TABLE estate_item_new (kind TEXT NOT NULL CHECK (kind IN ('network','pool','host','machine','series')), name TEXT NOT NULL, doc TEXT NOT NULL,
  PRIMARY KEY (kind, name)) STRICT;
INSERT INTO estate_item_new SELECT kind, name, doc FROM estate_item;
DROP TABLE estate_item;
ALTER TABLE estate_item_new RENAME TO estate_item;
CREATE TRIGGER estate_item_insert_counts AFTER INSERT ON estate_item BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER estate_item_update_counts AFTER UPDATE ON estate_item BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;
CREATE TRIGGER estate_item_delete_counts AFTER DELETE ON estate_item BEGIN UPDATE change_count SET number = number + 1 WHERE what = 'estate'; END;

-- What nodes were given while a run went on, such as an address by DHCP.
CREATE TABLE learned (run TEXT NOT NULL REFERENCES run(id) ON DELETE CASCADE, node TEXT NOT NULL, col TEXT NOT NULL, value TEXT NOT NULL,
  PRIMARY KEY (run, node, col)) STRICT;
