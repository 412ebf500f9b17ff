-- Why: an upload may be made of others that were sent side by side (tus concatenation), and what a device said about it is
-- given back to it word for word.

ALTER TABLE upload
    ADD COLUMN metadata text NOT NULL DEFAULT '',
    -- 'partial', or 'final;' and the addresses of its parts; NULL for an ordinary upload.
    ADD COLUMN concat text;
