-- Why: a household may want copies that anybody with the disk in hand can look at, with names that make sense.
ALTER TABLE store ADD COLUMN sealed boolean NOT NULL DEFAULT true;
