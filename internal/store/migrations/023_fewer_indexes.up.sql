-- A run that is recorded costs an entry in every index that it stands in. What was in no use, or in the use of the sweep alone, is
-- gone: old runs of a flow are found by when they came.
alter table event drop constraint event_pkey, add primary key (run, id);
drop index event_run;
drop index run_ended;
drop index run_again;
create index run_again on run (parent, created_at) where parent is not null and parent_step = '';
