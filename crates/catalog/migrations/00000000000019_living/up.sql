-- Why: what has gone was held before (a check says so), but the planner does not know that, and passed the one index over that finds an
-- original by its owner and its bytes.
CREATE OR REPLACE VIEW living AS SELECT * FROM original WHERE held_at IS NULL AND gone_at IS NULL;
