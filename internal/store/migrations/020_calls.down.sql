drop trigger run_gone on run;
drop function forget_runs();
alter table journal add constraint journal_run_fkey foreign key (run) references run on delete cascade;
alter table reference add constraint reference_run_fkey foreign key (run) references run on delete cascade;
alter table event add constraint event_run_fkey foreign key (run) references run on delete cascade,
    add constraint event_project_fkey foreign key (project) references project;
