-- A record that a system gives again, and that fails again, is one open entry: the newest, with how often it came.
alter table set_aside add column times int not null default 1;
alter table set_aside drop constraint set_aside_state_check, add check (state in ('open', 'run again', 'let go', 'came again'));
create index set_aside_twin on set_aside (step, md5(raw)) where state = 'open';
