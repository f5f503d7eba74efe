-- Calls of APIs, as the rules of each API let them into its log.
create table api_log (
    id uuid primary key, -- version 7: in the order of time
    project text not null,
    environment text not null,
    api text not null,
    operation text not null,
    caller text not null,
    at timestamptz not null,
    method text not null,
    path text not null,
    status int not null,
    took int not null, -- microseconds
    trace text not null, -- W3C Trace Context: 32 hexadecimal digits
    run uuid, -- of the flow that answered
    fault text not null, -- what was refused or reported; empty: nothing
    request_body bytea,
    response_body bytea,
    until timestamptz not null -- for which it is kept
);
create index api_log_of on api_log (project, environment, api, id desc);
create index api_log_trace on api_log (trace);
create index api_log_until on api_log (until);
