alter table secret drop column uses, drop column used_at, drop column used_by;
drop table secret_place;
