-- The files that a run has written, as they stood at the other end then.
create table run_file (
    run uuid not null references run on delete cascade,
    step text not null,
    name text not null,
    size bigint not null, -- bytes
    records int not null,
    at timestamptz not null default now(),
    primary key (run, step, name)
);
