-- Why: the server knows what is still to come while a device sleeps, and why it does not send; and a run that was ended before
-- it was done says so.

CREATE TABLE device_source (
    device         uuid NOT NULL REFERENCES device,
    name           text NOT NULL,
    files          bigint NOT NULL,
    bytes          bigint NOT NULL,
    left_out       bigint NOT NULL,
    rule           text NOT NULL,
    selection_only boolean NOT NULL,
    told_at        timestamptz NOT NULL,
    PRIMARY KEY (device, name)
);

ALTER TABLE device ADD COLUMN waiting_for text;
ALTER TABLE run ADD COLUMN halted text;
