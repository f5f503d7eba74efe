alter table run drop column deaths, drop column deaths_behind;
