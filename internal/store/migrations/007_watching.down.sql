drop table run_content, alarm, figure, saved_search, deed;
drop aggregate sum_counts(int[]);
drop function add_counts;
alter table set_aside drop column owner, drop column note;
alter table run drop column turns, drop column from_step, drop column owner, drop column note, drop column handled;
drop index run_state, run_parent;
create index run_state on run (project, state, created_at desc);
create index run_parent on run (parent, created_at);
drop index run_cancelled, run_ended, pickup_run;
