create table if not exists station (
    id int primary key,
    gauge_code text not null unique,
    name text not null,
    datum_cm numeric(6, 1) not null
);

insert into station values
    (11, 'LC11', 'Ling Castle pier', -12.5),
    (17, 'SK04', 'Ling Sound, north pier', -31.0),
    (23, 'OR02', 'Orma slip', 4.0),
    (29, 'HV07', 'Havra quay', -8.5)
on conflict do nothing;

create table if not exists tide_level (
    station_id int not null references station,
    gauge_code text not null,
    taken_at timestamptz not null,
    level_cm numeric(6, 1) not null check (level_cm > -1000),
    above_datum_cm numeric(6, 1) not null,
    is_surge boolean not null,
    trend text,
    station_name text not null,
    unit text not null,
    source_file text not null,
    primary key (gauge_code, taken_at)
);

-- How often each row was written: a row that is written twice shows here.
create table if not exists tide_level_write (
    gauge_code text not null,
    taken_at timestamptz not null,
    op text not null,
    at timestamptz not null default clock_timestamp()
);

create or replace function note_tide_level_write() returns trigger language plpgsql as $$
begin
    insert into tide_level_write (gauge_code, taken_at, op) values (new.gauge_code, new.taken_at, tg_op);
    return new;
end $$;

create or replace trigger tide_level_write after insert or update on tide_level
    for each row execute function note_tide_level_write();
