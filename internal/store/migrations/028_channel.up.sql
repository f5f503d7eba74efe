-- Channels: a message stands once, and each reader has its place among them. Places are by transaction and number: a reader goes no
-- further than transactions that are over, so that none that ends later is passed over.
create table channel (
    id int generated always as identity primary key,
    project text not null,
    environment text not null,
    name text not null,
    retention interval not null default '7 days',
    unique (project, environment, name)
);
create sequence channel_message_id;
create table channel_message (
    channel int not null,
    xid bigint not null default (pg_current_xact_id()::text::bigint),
    id bigint not null default nextval('channel_message_id'),
    put_at timestamptz not null default clock_timestamp(),
    message_id text not null, -- by which doubles are known
    key text not null, -- empty: none
    headers text not null, -- JSON, a list of name and value; empty: none
    media text not null, -- of the body
    body bytea not null,
    due_at timestamptz, -- before which it is not handed out
    expires_at timestamptz, -- after which it is not
    origin text not null, -- what put it
    known boolean not null default false -- its id tells doubles
) partition by range (put_at);
create index channel_message_place on channel_message (channel, xid, id);
create index channel_message_known on channel_message (channel, message_id) where known;
create table channel_message_rest partition of channel_message default;
create table channel_reader (
    id int generated always as identity primary key,
    channel int not null references channel on delete cascade,
    name text not null, -- empty: those of a queue
    at_xid bigint not null, -- of the last message that was handed out
    at_id bigint not null,
    paused_by text,
    paused_at timestamptz,
    pause_reason text not null default '',
    made_at timestamptz not null default now(),
    unique (channel, name)
);
-- Messages behind a reader's place that it has not dealt with, as they were handed out together: they are out, put off, or to be handed
-- out again.
create table channel_claim (
    id bigint generated always as identity primary key,
    reader int not null references channel_reader on delete cascade,
    until timestamptz not null, -- when they are handed out again
    attempts int not null, -- how often they were handed out
    token uuid, -- of who has them
    xids bigint[] not null,
    ids bigint[] not null
);
create index channel_claim_until on channel_claim (reader, until);
create index channel_claim_token on channel_claim (token) where token is not null;
create table channel_aside (
    reader int not null references channel_reader on delete cascade,
    xid bigint not null,
    id bigint not null,
    attempts int not null,
    reason text not null,
    at timestamptz not null default now(),
    primary key (reader, xid, id)
);
