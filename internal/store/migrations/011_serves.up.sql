-- The project and the environment whose runs this database holds: until runs name theirs, there is one.
create table serves (
    one boolean primary key default true check (one),
    project text not null,
    environment text not null
);
