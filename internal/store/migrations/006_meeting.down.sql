alter table run drop column request, drop column reply;
drop table gathered, awaiting, letter, kept;
