-- Revisions of parts that were removed: the number by which a project's state is known must never fall.
alter table project add column removed bigint not null default 0;
