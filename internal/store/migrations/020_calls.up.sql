-- What a run leaves behind is recorded with the run, in one statement, and removed with it. That it has its run was looked up for
-- each row that was written; a call writes one of each.
alter table journal drop constraint journal_run_fkey;
alter table reference drop constraint reference_run_fkey;
alter table event drop constraint event_run_fkey, drop constraint event_project_fkey;

create function forget_runs() returns trigger language plpgsql as $$
begin
    delete from journal where run in (select id from gone);
    delete from reference where run in (select id from gone);
    delete from event where run in (select id from gone);
    return null;
end $$;
create trigger run_gone after delete on run referencing old table as gone for each statement execute function forget_runs();
