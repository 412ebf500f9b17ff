-- Why: the JPEG beside a HEIC picture is called what it is.
UPDATE original SET part = 'twin' WHERE part = 'compatible';
