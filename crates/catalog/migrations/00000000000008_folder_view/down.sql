DROP TABLE folder_entry;
