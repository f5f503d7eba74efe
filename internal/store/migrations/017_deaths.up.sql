-- How often a worker ended while it worked on a run, without the run having come further in between.
alter table run add column deaths int not null default 0, add column deaths_behind int not null default 0;
