DROP TABLE refiling_move;
DROP TABLE refiling;
ALTER TABLE original DROP COLUMN source, DROP COLUMN file_time, DROP COLUMN pair, DROP COLUMN shot_key, DROP COLUMN shot,
    DROP COLUMN part, DROP COLUMN correction, DROP COLUMN moving_to;
DROP TABLE clock_correction;
