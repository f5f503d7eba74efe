-- the cases that did not come out as expected when a release was made
alter table release add column failed_cases text[] not null default '{}';
