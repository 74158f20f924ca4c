-- What a planned node takes on which datastore: name → bytes at first and when full.
ALTER TABLE claim ADD COLUMN stores TEXT NOT NULL DEFAULT '{}';
