-- Why nobody drives a run that has not ended: a fault that no step is to blame for. '' while somebody does.
ALTER TABLE run ADD COLUMN reason TEXT NOT NULL DEFAULT '';
