alter table event drop constraint event_pkey, add primary key (id);
create index event_run on event (run);
drop index run_again;
create index run_again on run (parent, created_at) where parent_step = '';
create index run_ended on run (project, environment, flow, ended_at) where ended_at is not null;
