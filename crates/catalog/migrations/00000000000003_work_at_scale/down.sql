DROP INDEX job_next;
CREATE FUNCTION tell_job() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('job', '');
    RETURN NULL;
END $$;
CREATE TRIGGER job_added AFTER INSERT ON job FOR EACH STATEMENT EXECUTE FUNCTION tell_job();
