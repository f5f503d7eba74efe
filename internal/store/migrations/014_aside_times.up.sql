-- When a record was set aside: what comes again is told from what is told already.
alter table set_aside add column made_at timestamptz;
update set_aside a set made_at = coalesce(r.ended_at, r.created_at) from run r where r.id = a.run;
alter table set_aside alter column made_at set default now(), alter column made_at set not null;
