-- All that runs, and is kept with runs, is of an environment: what there was is of the one that the database was for.
do $$
declare
    env text := coalesce((select environment from serves), 'Workbench');
    kept_table text;
begin
    foreach kept_table in array array['run', 'pickup', 'trigger_state', 'seen', 'kept', 'letter', 'awaiting', 'gathered', 'reference', 'event', 'figure', 'alarm', 'deed', 'worker'] loop
        execute format('alter table %I add column environment text not null default %L', kept_table, env);
        execute format('alter table %I alter column environment drop default', kept_table);
    end loop;
end $$;

-- The oldest project is the one of addresses that name none.
alter table project add column created_at timestamptz not null default now();

-- What an environment runs: of each flow one release. Releases themselves are the project's.
create table deployment (
    project text not null,
    environment text not null,
    flow text not null,
    release int not null,
    made_by text not null references person,
    made_at timestamptz not null default now(),
    primary key (project, environment, flow),
    foreign key (project, flow, release) references release
);
insert into deployment (project, environment, flow, release, made_by, made_at)
    select distinct on (project, flow) project, coalesce((select environment from serves), 'Workbench'), flow, number, made_by, made_at
    from release order by project, flow, number desc;
create index deployment_environment on deployment (environment);

alter table pickup drop constraint pickup_pkey, add primary key (project, environment, flow, path, identity);
alter table trigger_state drop constraint trigger_state_pkey, add primary key (project, environment, flow);
alter table seen drop constraint seen_pkey, add primary key (project, environment, flow, step, key);
alter table kept drop constraint kept_pkey, add primary key (project, environment, space, key);
alter table figure drop constraint figure_pkey, add primary key (project, environment, kind, name, minute);

drop index run_newest, run_flow, run_state, run_reference, run_lane, run_failed, run_ended, run_waits;
create index run_newest on run (project, environment, created_at desc, id);
create index run_flow on run (project, environment, flow, created_at desc);
create index run_state on run (project, environment, state, created_at desc) where state <> 'done';
create index run_reference on run (project, environment, lower(reference) text_pattern_ops, created_at desc);
create index run_lane on run (project, environment, flow, lane, created_at) where state in ('waiting', 'running', 'retrying');
create index run_failed on run (project, environment, created_at desc) where state in ('set aside', 'stopped');
create index run_ended on run (project, environment, flow, ended_at) where ended_at is not null;
create index run_waits on run (project, environment, created_at desc) where state in ('set aside', 'stopped') and fault is not null and handled = '';

drop index reference_text, event_newest, letter_open, awaiting_reference, gathered_open, alarm_open, alarm_newest, deed_newest;
create index reference_text on reference (project, environment, lower(text) text_pattern_ops);
create index event_newest on event (project, environment, at desc);
create index letter_open on letter (project, environment, kind, reference, id) where taken_run is null;
create index awaiting_reference on awaiting (project, environment, kind, reference);
create index gathered_open on gathered (project, environment, flow, step, key, id) where taken_run is null;
create unique index alarm_open on alarm (project, environment, alert, cause) where cleared_at is null;
create index alarm_newest on alarm (project, environment, id desc);
create index deed_newest on deed (project, environment, id desc);

-- Runs that wait are taken from the queue of their environment.
update river_job j set queue = regexp_replace(lower(coalesce((select environment from serves), 'Workbench')), '[^a-z0-9]+', '-', 'g')
    where queue = 'default' and state not in ('completed', 'cancelled', 'discarded');
