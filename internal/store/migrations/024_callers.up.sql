-- Programs that call APIs of a project in an environment. Of a key only its digest is kept.
create table caller (
    id uuid primary key,
    project text not null references project,
    environment text not null,
    name text not null,
    apis text[] not null default '{}', -- that it may call; none: all
    disabled boolean not null default false,
    made_by text not null references person,
    made_at timestamptz not null default now(),
    unique (project, environment, name)
);
create table caller_key (
    digest bytea primary key, -- SHA-256
    caller uuid not null references caller on delete cascade,
    hint text not null, -- its first characters, by which people tell it from others
    made_by text not null references person,
    made_at timestamptz not null default now(),
    ends_at timestamptz,
    used_on date
);
create index caller_key_caller on caller_key (caller);
-- What of a limit is given to workers in a span of time.
create table quota (
    project text not null,
    environment text not null,
    name text not null, -- of the API and the caller
    span text not null,
    begins timestamptz not null,
    given bigint not null default 0,
    primary key (project, environment, name, span, begins)
);
create index quota_begins on quota (begins);
