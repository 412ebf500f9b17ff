-- The first shape has nothing before it to go back to.
SELECT 1;
