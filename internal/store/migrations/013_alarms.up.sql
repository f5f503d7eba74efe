-- What an alert has told is told again when it comes again: how often it came, and the newest time that was counted.
alter table alarm add column count int not null default 1;
alter table alarm add column newest timestamptz not null default now();
