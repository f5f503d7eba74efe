-- Calls of APIs that people sent from their pages, without what says who calls: the last ones of each API.
create table api_call (
    id bigint primary key generated always as identity,
    project text not null references project,
    environment text not null,
    api text not null,
    operation text not null,
    made_by text not null references person,
    made_at timestamptz not null default now(),
    request text not null, -- parameters, media type and body, as JSON
    status int not null,
    took int not null, -- milliseconds
    fits boolean not null, -- the contract
    response text not null
);
create index api_call_of on api_call (project, environment, api, id);
