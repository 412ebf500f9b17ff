-- Why: people see where they are signed in and end what they do not know; and what opens or ends everything asks for the password again
-- when it was not typed within the last minutes, so a session has to remember when that was. One from before this was not proven lately.
ALTER TABLE session
    ADD COLUMN id uuid NOT NULL DEFAULT gen_random_uuid(),
    ADD COLUMN agent text NOT NULL DEFAULT '',
    ADD COLUMN seen_at timestamptz,
    ADD COLUMN proved_at timestamptz NOT NULL DEFAULT '-infinity';
CREATE INDEX session_of_person ON session (person);
