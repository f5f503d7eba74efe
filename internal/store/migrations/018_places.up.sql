-- Where a secret may be used: at which host for which connection. An empty host is that of the next use.
create table secret_place (
    project text not null,
    environment text not null,
    secret text not null,
    connection text not null,
    host text not null,
    primary key (project, environment, secret, connection),
    foreign key (project, environment, secret) references secret on delete cascade
);
insert into secret_place (project, environment, secret, connection, host)
    select distinct x.project, x.environment, x.name, s.connection, ''
    from setting s, jsonb_each_text(s.chosen) e, secret x
    where x.project = s.project and x.environment = s.environment and x.name = e.value;
alter table secret add column uses bigint not null default 0, add column used_at timestamptz, add column used_by text not null default '';
