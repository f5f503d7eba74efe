-- What flows remember under keys: answers for a time, changed rows of tables.
create table kept (
    project text not null references project,
    space text not null,
    key text not null,
    content text not null,
    until timestamptz, -- null: for ever
    primary key (project, space, key)
);
create index kept_until on kept (until) where until is not null;

-- Messages that one run hands over to another, by their kind and reference. The first one that waits takes it.
create table letter (
    id bigint generated always as identity primary key,
    project text not null references project,
    kind text not null,
    reference text not null,
    content text not null,
    run uuid not null,
    step text not null,
    record int not null,
    path text not null,
    at timestamptz not null default now(),
    taken_run uuid,
    taken_step text,
    taken_record int,
    taken_path text,
    unique (run, step, record, path)
);
create index letter_open on letter (project, kind, reference, id) where taken_run is null;
create index letter_taken on letter (taken_run, taken_step) where taken_run is not null;

-- Runs that wait for a message.
create table awaiting (
    run uuid not null references run,
    step text not null,
    record int not null,
    path text not null,
    project text not null,
    kind text not null,
    reference text not null,
    since timestamptz not null default now(),
    primary key (run, step, record, path)
);
create index awaiting_reference on awaiting (project, kind, reference);

-- What was gathered, and by which record its group goes on.
create table gathered (
    id bigint generated always as identity primary key,
    project text not null references project,
    flow text not null,
    step text not null,
    key text not null,
    content text not null,
    run uuid not null,
    record int not null,
    path text not null,
    at timestamptz not null default now(),
    taken_run uuid,
    taken_record int,
    taken_path text,
    unique (run, step, record, path)
);
create index gathered_open on gathered (project, flow, step, key, id) where taken_run is null;
create index gathered_taken on gathered (taken_run, step) where taken_run is not null;

-- The HTTP request that started a run, and how it is answered beside the message.
alter table run add column request bytea;
alter table run add column reply jsonb;
