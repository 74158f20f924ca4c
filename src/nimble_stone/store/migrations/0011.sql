-- What was found otherwise than it was built, and what became of it: the drift table has only what is so now.
CREATE TABLE drift_event (id INTEGER PRIMARY KEY, plan TEXT NOT NULL REFERENCES plan(id) ON DELETE CASCADE, at REAL NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('found','changed','gone','accepted','reopened')), node TEXT NOT NULL, label TEXT NOT NULL,
  was TEXT NOT NULL, now TEXT NOT NULL, reason TEXT NOT NULL) STRICT;
CREATE INDEX drift_event_of_plan ON drift_event(plan, at);
