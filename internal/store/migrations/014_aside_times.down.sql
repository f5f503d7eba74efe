alter table set_aside drop column made_at;
