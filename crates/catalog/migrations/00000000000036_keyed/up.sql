-- Why: a row that nothing tells from the next one cannot be named. What was removed from a store is a list of such rows.
ALTER TABLE removed_object ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY;

-- The sum of some sizes as what a size is: none are no bytes.
CREATE AGGREGATE total(bigint) (sfunc = int8pl, stype = bigint, initcond = '0', combinefunc = int8pl, parallel = safe);
