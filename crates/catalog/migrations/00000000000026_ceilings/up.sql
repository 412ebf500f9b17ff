-- Why: whoever has a device's credential must not take the whole disk with promises, nor fill the database with rows.

-- An upload's room is promised for as long as its bytes come; of one that rests, only what came counts.
ALTER TABLE upload
    ADD COLUMN received bigint NOT NULL DEFAULT 0,
    ADD COLUMN touched_at timestamptz NOT NULL DEFAULT now();

-- What a member has at home is summed up for each promise; without looking at the originals themselves.
CREATE INDEX original_size ON original (person) INCLUDE (size) WHERE gone_at IS NULL;

-- All rows that a device made: names, sources, folder entries, runs and their logs. Counted as they are made, so that nothing is counted
-- to know it.
ALTER TABLE device ADD COLUMN made bigint NOT NULL DEFAULT 0;
UPDATE device d SET made = least(10000000,
      (SELECT count(*) FROM sighting WHERE device = d.id)
    + (SELECT count(*) FROM device_source WHERE device = d.id)
    + (SELECT count(*) FROM folder_entry WHERE device = d.id)
    + (SELECT count(*) FROM run WHERE device = d.id)
    + (SELECT count(*) FROM run_entry e JOIN run r ON r.id = e.run WHERE r.device = d.id));
-- `core::room::ROWS_OF_DEVICE` says the same number.
ALTER TABLE device ADD CONSTRAINT device_makes_no_more CHECK (made <= 10000000);

CREATE FUNCTION count_made() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE device d SET made = d.made + n.rows FROM (SELECT device, count(*) AS rows FROM changed GROUP BY device) n WHERE d.id = n.device;
    RETURN NULL;
END $$;

CREATE FUNCTION count_unmade() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE device d SET made = greatest(0, d.made - n.rows) FROM (SELECT device, count(*) AS rows FROM changed GROUP BY device) n WHERE d.id = n.device;
    RETURN NULL;
END $$;

CREATE FUNCTION count_logged() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE device d SET made = d.made + n.rows
    FROM (SELECT r.device, count(*) AS rows FROM changed e JOIN run r ON r.id = e.run GROUP BY r.device) n WHERE d.id = n.device;
    RETURN NULL;
END $$;

CREATE TRIGGER sighting_made AFTER INSERT ON sighting REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION count_made();
CREATE TRIGGER sighting_unmade AFTER DELETE ON sighting REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION count_unmade();
CREATE TRIGGER source_made AFTER INSERT ON device_source REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION count_made();
CREATE TRIGGER source_unmade AFTER DELETE ON device_source REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION count_unmade();
CREATE TRIGGER folder_entry_made AFTER INSERT ON folder_entry REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION count_made();
CREATE TRIGGER folder_entry_unmade AFTER DELETE ON folder_entry REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION count_unmade();
CREATE TRIGGER run_made AFTER INSERT ON run REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION count_made();
CREATE TRIGGER run_entry_made AFTER INSERT ON run_entry REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION count_logged();
