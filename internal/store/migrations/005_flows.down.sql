drop table seen, event, reference;
alter table run drop column release_flow, drop column input, drop column answer, drop column totals, drop column parent_step, drop column parent_record, drop column parent_path, drop column depth, drop column cancel_at;
alter table run add foreign key (project, flow, release) references release (project, flow, number);
alter table effect drop constraint effect_pkey, drop column path;
alter table effect add primary key (run, step, record);
alter table set_aside drop constraint set_aside_run_record_path_key, drop column path;
alter table set_aside add unique (run, record);
