-- What is needed to run a single record, or an entry of a list in one, again by itself.
alter table set_aside add column at_byte bigint not null default 0; -- of its message, at which the record begins
alter table run add column read_as text not null default '';        -- the notation of records that were mended; empty: as the flow says
alter table run add column entry json;                              -- the entry of a list that is done again by itself
create index run_again on run (parent, created_at) where parent_step = '';
