drop table api_log;
