drop table run_content, alarm, figure, saved_search, deed;
drop aggregate sum_counts(int[]);
drop function add_counts;
alter table set_aside drop column owner, drop column note;
alter table run drop column from_step, drop column owner, drop column note, drop column handled;
drop index run_cancelled, run_ended, pickup_run;
