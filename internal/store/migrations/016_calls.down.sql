alter table pickup drop column digest;
