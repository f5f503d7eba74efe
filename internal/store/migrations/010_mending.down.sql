drop index run_again;
alter table run drop column entry, drop column read_as;
alter table set_aside drop column at_byte;
