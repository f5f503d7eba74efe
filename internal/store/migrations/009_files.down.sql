drop table run_file;
