-- Old runs can be removed; what refers to them goes with them, or stays without them.
alter table journal drop constraint journal_run_fkey, add foreign key (run) references run on delete cascade;
alter table set_aside drop constraint set_aside_run_fkey, add foreign key (run) references run on delete cascade;
alter table set_aside drop constraint set_aside_rerun_fkey, add foreign key (rerun) references run on delete set null;
alter table reference drop constraint reference_run_fkey, add foreign key (run) references run on delete cascade;
alter table event drop constraint event_run_fkey, add foreign key (run) references run on delete cascade;
alter table effect drop constraint effect_run_fkey, add foreign key (run) references run on delete cascade;
alter table collected drop constraint collected_run_fkey, add foreign key (run) references run on delete cascade;
alter table awaiting drop constraint awaiting_run_fkey, add foreign key (run) references run on delete cascade;
alter table pickup alter column run drop not null, drop constraint pickup_run_fkey, add foreign key (run) references run on delete set null;
alter table run drop constraint run_parent_fkey, add foreign key (parent) references run on delete set null;
drop index run_state, run_parent; -- most runs are done, and have no parent: they need not stand there
create index run_state on run (project, state, created_at desc) where state <> 'done';
create index run_parent on run (parent, created_at) where parent is not null;
create index pickup_run on pickup (run);
create index run_cancelled on run (id) where cancel_by is not null and state in ('waiting', 'retrying');
create index run_ended on run (project, flow, ended_at) where ended_at is not null;

-- What a run reads beyond its first piece.
create table run_content (
    run uuid not null references run on delete cascade,
    n int not null,
    chunk bytea not null,
    primary key (run, n)
);

-- A run that has to wait for its turn: its flow has a bound, or it is in a lane.
alter table run add column turns boolean not null default true;

-- A run can begin at a step, with what an earlier one had come to there.
alter table run add column from_step text not null default '';

-- What was set aside is somebody's work.
alter table set_aside add column owner text references person;
alter table set_aside add column note text not null default '';
create index set_aside_owner on set_aside (owner) where state = 'open';

-- So is a run that failed as a whole.
alter table run add column owner text references person;
alter table run add column note text not null default '';
alter table run add column handled text not null default ''; -- run again or let go; empty: it waits for somebody
create index run_waits on run (project, created_at desc) where state in ('set aside', 'stopped') and fault is not null and handled = '';

-- What people have done.
create table deed (
    id bigint generated always as identity primary key,
    project text not null references project,
    person text not null,
    what text not null,
    run uuid,  -- it may be removed later
    about text not null default '',
    at timestamptz not null default now()
);
create index deed_newest on deed (project, id desc);
create index deed_run on deed (run, id) where run is not null;

create table saved_search (
    project text not null references project,
    person text not null references person,
    name text not null,
    query text not null,
    primary key (project, person, name)
);

-- How much was done in each minute, how much of it failed, and how long it took: counts of durations up to 1 ms, 2 ms, 4 ms
-- and so on. kind is flow or connection.
create table figure (
    project text not null references project,
    kind text not null,
    name text not null,
    minute timestamptz not null,
    done int not null,
    failed int not null,
    took int[] not null,
    primary key (project, kind, name, minute)
);
create index figure_minute on figure (minute);

-- Adds counts place by place.
create function add_counts(a int[], b int[]) returns int[] language sql immutable as $$
    select array_agg(coalesce(x, 0) + coalesce(y, 0) order by n) from unnest(a, b) with ordinality as t(x, y, n)
$$;

create aggregate sum_counts(int[]) (sfunc = add_counts, stype = int[], initcond = '{}');

-- What alerts have told: one row for each cause, until it is over.
create table alarm (
    project text not null references project,
    alert text not null,
    cause text not null,
    since timestamptz not null default now(),
    told_at timestamptz not null default now(),
    told int not null default 1,
    text text not null,
    run uuid,
    cleared_at timestamptz,
    id bigint generated always as identity primary key
);
create unique index alarm_open on alarm (project, alert, cause) where cleared_at is null;
create index alarm_newest on alarm (project, id desc);
