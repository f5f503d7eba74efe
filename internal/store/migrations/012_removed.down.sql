alter table project drop column removed;
