-- Why: people look for what came lately, whenever it was taken.
CREATE INDEX original_arrived ON original (person, landed_at DESC) WHERE leads AND NOT put_away AND held_at IS NULL AND gone_at IS NULL;
