DROP TABLE adopted_file;
DROP TABLE adoption;
