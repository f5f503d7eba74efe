alter table alarm drop column newest;
alter table alarm drop column count;
