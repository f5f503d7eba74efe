-- A run may be one that another flow's step started: it then runs the state of its flow in that flow's release.
alter table run add column release_flow text;
update run set release_flow = flow;
alter table run alter column release_flow set not null;
alter table run drop constraint run_project_flow_release_fkey;
alter table run add foreign key (project, release_flow, release) references release (project, flow, number);
alter table run add column input bytea;  -- the message that the run begins with, as JSON
alter table run add column answer bytea; -- what its caller is answered, as JSON
alter table run add column totals bytea; -- what tally steps carry from record to record, as JSON by step
alter table run add column parent_step text not null default '';
alter table run add column parent_record int not null default 0;
alter table run add column parent_path text not null default '';
alter table run add column cancel_at timestamptz;
alter table run add column depth int not null default 0;
create unique index run_child on run (parent, parent_step, parent_record, parent_path) where parent_step <> '';
create index run_parent on run (parent, created_at);

-- Entries of lists inside a record have a path: their positions in the lists.
alter table effect add column path text not null default '';
alter table effect drop constraint effect_pkey;
alter table effect add primary key (run, step, record, path);
alter table set_aside add column path text not null default '';
alter table set_aside drop constraint set_aside_run_record_key;
alter table set_aside add unique (run, record, path);

-- Business keys by which a run is found, beside its own.
create table reference (
    run uuid not null references run,
    project text not null,
    record int not null,
    text text not null,
    primary key (run, record, text)
);
create index reference_text on reference (project, lower(text) text_pattern_ops);

-- What steps told, to be seen without opening their runs.
create table event (
    id bigint generated always as identity primary key,
    project text not null references project,
    flow text not null,
    run uuid not null references run,
    step text not null,
    record int not null,
    text text not null,
    fault json,
    at timestamptz not null default now()
);
create index event_newest on event (project, at desc);
create index event_run on event (run);

-- A trigger can be paused by a person; what the last look at it met is kept.
alter table trigger_state add column spec text not null default '';
alter table trigger_state add column paused_by text references person;
alter table trigger_state add column paused_at timestamptz;
alter table trigger_state add column paused_for text not null default '';
alter table trigger_state add column fault text not null default '';
alter table trigger_state add column looked_at timestamptz;

-- Of the runs of a flow with the same lane one is under way, in their order.
alter table run add column lane text not null default '';
create index run_lane on run (project, flow, lane, created_at) where state in ('waiting', 'running', 'retrying');

-- Keys that a flow's records had, and the record that had them first.
create table seen (
    project text not null,
    flow text not null,
    step text not null,
    key text not null,
    run uuid not null,
    record int not null,
    path text not null,
    at timestamptz not null default now(),
    primary key (project, flow, step, key)
);

-- What a fault is about, without what differs between one and the next.
create function fault_cause(f json) returns text language sql immutable as $$
    select left(regexp_replace(coalesce(nullif(f->>'message', ''), 'expected ' || (f->>'expected'), f->>'code'), '"[^"]*"|[0-9]+([.,:-][0-9]+)*', '…', 'g'), 200)
$$;
create index set_aside_open on set_aside (run) where state = 'open';
create index run_failed on run (project, created_at desc) where state in ('set aside', 'stopped');
