-- Why: programs that know folders (WebDAV) see a tree of their own. It names originals and never holds bytes, so whatever is
-- done to it, the originals stay.
CREATE TABLE folder_entry (
    device     uuid NOT NULL REFERENCES device,
    -- Without a slash at either end; the root has no row.
    path       text NOT NULL,
    parent     text NOT NULL,
    folder     boolean NOT NULL,
    original   uuid REFERENCES original,
    -- A file that comes in several requests and is not complete.
    upload     uuid REFERENCES upload ON DELETE SET NULL,
    made_at    timestamptz NOT NULL,
    changed_at timestamptz NOT NULL,
    -- Properties that its program keeps here; understood by that program alone.
    properties jsonb NOT NULL DEFAULT '[]',
    PRIMARY KEY (device, path)
);
CREATE INDEX folder_entry_children ON folder_entry (device, parent, path);
CREATE INDEX folder_entry_upload ON folder_entry (upload) WHERE upload IS NOT NULL;
