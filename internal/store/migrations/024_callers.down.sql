drop table quota, caller_key, caller;
