-- How each connection is reached in an environment. Secrets stand here by their names only.
create table setting (
    project text not null references project,
    environment text not null,
    connection text not null,
    kind text not null,
    chosen jsonb not null,
    page text not null default '',
    version bigint generated always as identity,
    changed_by text not null references person,
    changed_at timestamptz not null default now(),
    primary key (project, environment, connection)
);

-- Secrets, sealed: AES-256-GCM under the key whose id stands beside them.
create table secret (
    project text not null references project,
    environment text not null,
    name text not null,
    type text not null,
    about text not null default '',
    key_id text not null,
    sealed bytea not null,
    expires_at timestamptz,
    version bigint not null default 1,
    changed_by text not null,
    changed_at timestamptz not null default now(),
    primary key (project, environment, name)
);

-- How connections were when they were last looked at.
create table health (
    project text not null references project,
    environment text not null,
    connection text not null,
    well boolean not null,
    took_ms int not null,
    fault text not null default '',
    good_at timestamptz,
    bad_at timestamptz,
    since timestamptz not null default now(), -- well or not, without a change
    checked_at timestamptz not null default now(),
    primary key (project, environment, connection)
);

-- What a trigger remembers between two starts.
create table trigger_state (
    project text not null,
    flow text not null,
    next_at timestamptz not null default now(),
    rising text not null default '', -- the greatest value of the rising field that was taken
    primary key (project, flow)
);

-- What effects on outside systems answered, so that a batch that is done again does not repeat them.
create table effect (
    run uuid not null references run,
    step text not null,
    record int not null,
    answer bytea not null,
    primary key (run, step, record)
);

create index set_aside_rerun on set_aside (rerun);

-- Records that a step collects for files that are written when the run ends.
create table collected (
    run uuid not null references run,
    step text not null,
    first int not null,
    content bytea not null,
    primary key (run, step, first)
);
