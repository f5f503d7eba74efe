create table person (
    id text primary key,
    name text not null,
    initials text not null
);

create table project (
    id text primary key,
    title text not null
);

-- What was ever in a part. A change points back to the one that it followed.
create table part_edit (
    id bigint generated always as identity primary key,
    project text not null references project,
    path text not null,
    parent bigint references part_edit,
    content bytea not null,
    made_by text not null references person,
    made_at timestamptz not null default now()
);
create index part_edit_parent on part_edit (parent);

-- The draft of each part. revision rises with every change, undo among them.
create table part (
    project text not null references project,
    path text not null,
    edit bigint not null references part_edit,
    revision bigint not null default 1,
    primary key (project, path)
);

create table release (
    project text not null references project,
    flow text not null,
    number int not null,
    title text not null,
    note text not null default '',
    made_by text not null references person,
    made_at timestamptz not null default now(),
    primary key (project, flow, number)
);

create table release_file (
    project text not null,
    flow text not null,
    number int not null,
    path text not null,
    content bytea not null,
    primary key (project, flow, number, path),
    foreign key (project, flow, number) references release
);

create table worker (
    id text primary key,
    started_at timestamptz not null default now(),
    beat_at timestamptz not null default now()
);

create table run (
    id uuid primary key,
    project text not null references project,
    flow text not null,
    release int not null,
    reference text not null,
    file text not null,
    input_path text not null default '',
    done_path text not null default '',
    content bytea,
    first_line int not null default 1,
    parent uuid references run,
    started_by text not null,
    state text not null default 'waiting'
        check (state in ('waiting', 'running', 'retrying', 'done', 'set aside', 'stopped')),
    claim bigint not null default 0,
    worker text,
    attempt int not null default 0,
    next_at timestamptz,
    cancel_by text,
    taken int not null default 0,
    aside int not null default 0,
    counts jsonb not null default '{}',
    fault json, -- json, not jsonb: a fault may quote any character, U+0000 among them
    warning text not null default '',
    created_at timestamptz not null default now(),
    began_at timestamptz,
    ended_at timestamptz,
    foreign key (project, flow, release) references release
);
create index run_newest on run (project, created_at desc, id);
create index run_flow on run (project, flow, created_at desc);
create index run_state on run (project, state, created_at desc);
create index run_reference on run (project, lower(reference) text_pattern_ops, created_at desc);

-- A file that was picked up, by what tells it from another of its name.
create table pickup (
    project text not null,
    flow text not null,
    path text not null,
    identity text not null,
    run uuid not null references run,
    at timestamptz not null default now(),
    primary key (project, flow, path, identity)
);

-- What happened to the records of one batch: gzipped JSON, one value a line.
create table journal (
    run uuid not null references run,
    first int not null,
    records int not null,
    entries bytea not null,
    primary key (run, first)
);

create table set_aside (
    id bigint generated always as identity primary key,
    run uuid not null references run,
    record int not null,
    line int not null,
    step text not null,
    raw bytea not null,
    faults json not null,
    state text not null default 'open' check (state in ('open', 'run again', 'let go')),
    rerun uuid references run,
    handled_by text references person,
    handled_at timestamptz,
    unique (run, record)
);
create index set_aside_run on set_aside (run, line);
