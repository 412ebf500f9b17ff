-- Why: with a million pieces of work that are due next month, taking the one that is due now must not look at them; and a
-- trigger that notifies makes all commits wait for each other, so the notice is sent by the catalogue, once for many.

DROP TRIGGER job_added ON job;
DROP FUNCTION tell_job();

CREATE INDEX job_next ON job (kind, store, due) WHERE NOT gave_up;
