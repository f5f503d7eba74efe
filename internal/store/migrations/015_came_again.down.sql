drop index set_aside_twin;
update set_aside set state = 'let go' where state = 'came again';
alter table set_aside drop constraint set_aside_state_check, add check (state in ('open', 'run again', 'let go'));
alter table set_aside drop column times;
