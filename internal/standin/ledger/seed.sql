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

create table if not exists vessel (
    id int primary key,
    name text not null,
    home text not null,
    length_m numeric(5, 1) not null,
    cars int not null,
    built date not null
);

insert into vessel values
    (1, 'Skua', 'LC', 104.5, 88, '2009-05-02'),
    (2, 'Fulmar', 'HV', 68.0, 34, '1998-11-20'),
    (3, 'Tern', 'OR', 41.2, 12, '2017-03-14'),
    (4, 'Gannet', 'LC', 88.7, 61, '2022-08-30')
on conflict do nothing;

create table if not exists crew (
    id int primary key,
    badge text, -- of the staff directory; who is new has none
    vessel_id int not null references vessel,
    watch text not null
);

insert into crew values
    (501, '4117', 1, 'day'),
    (502, '4118', 1, 'night'),
    (503, '4119', 2, 'day'),
    (504, '4120', 2, 'day'),
    (505, '4121', 3, 'night'),
    (506, null, 3, 'day'),
    (507, '4999', 4, 'day')
on conflict do nothing;

create table if not exists invoice (
    number int generated always as identity (start with 7001) primary key,
    booking text not null unique,
    customer text not null,
    issued date not null,
    currency text not null,
    net numeric(12, 2) not null,
    vat numeric(12, 2) not null
);

create table if not exists invoice_line (
    invoice int not null references invoice,
    no int not null,
    article text not null,
    text text not null,
    amount numeric(12, 2) not null,
    vat numeric(12, 2) not null,
    primary key (invoice, no)
);

-- Accounts of customers; one that is closed takes no invoices. A customer without an account pays at once.
create table if not exists account (
    customer text primary key,
    closed boolean not null default false
);
insert into account values ('Tove Lind', false), ('Ormlet Fish', false), ('Vane & Co', false), ('Norholm Salt', true) on conflict do nothing;

-- Posts an invoice with its lines and gives its number; one that is posted already keeps it.
create or replace function post_invoice(of_booking text, to_customer text, issued_on date, in_currency text, net_sum numeric, vat_sum numeric, lines text)
returns int language plpgsql as $$
declare n int;
begin
    if exists (select from account where customer = to_customer and closed) then
        raise exception 'the account of % is closed', to_customer;
    end if;
    insert into invoice (booking, customer, issued, currency, net, vat) values (of_booking, to_customer, issued_on, in_currency, net_sum, vat_sum)
        on conflict (booking) do nothing returning number into n;
    if n is null then
        return (select number from invoice where booking = of_booking);
    end if;
    insert into invoice_line select n, (l->>'no')::int, l->>'article', l->>'text', (l->>'amount')::numeric, (l->>'vat')::numeric from jsonb_array_elements(lines::jsonb) l;
    return n;
end $$;

create table if not exists kiosk_member (
    card text primary key,
    name text not null,
    mail text not null,
    kiosk text not null,
    at timestamptz not null
);

create table if not exists boarding (
    sailing text not null,
    plate text not null,
    class text not null,
    length_m numeric(5, 2) not null check (length_m > 0),
    dangerous boolean not null,
    primary key (sailing, plate)
);

create table if not exists safety_notice (
    id int generated always as identity primary key,
    title text not null,
    body text not null,
    reader text not null
);

insert into safety_notice (title, body, reader) select 'Fog in Ling Sound', 'Sail at half speed between the outer marks.
Sound the horn at each of them.', 'bridge@skerry.example' where not exists (select from safety_notice);
