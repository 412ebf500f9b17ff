-- Why: an edited version stands for its picture, and is not always the better one. Whose picture it is says which of its files is shown: the one that was brought
-- forward last. The ledgers say it. A table of its own: with more columns than 32, what asks for an original takes Diesel's compiler minutes and gigabytes.
CREATE TABLE forward (
    original   uuid PRIMARY KEY REFERENCES original ON DELETE CASCADE,
    forward_at timestamptz NOT NULL
);
CREATE TRIGGER forward_said AFTER INSERT OR DELETE ON forward FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
CREATE TRIGGER forward_said_anew AFTER UPDATE OF forward_at ON forward FOR EACH ROW EXECUTE FUNCTION ledgers_say_whose_favourite();
