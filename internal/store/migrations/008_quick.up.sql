-- Runs refer to releases, which are never removed. A foreign key would make every run that begins lock the row of its
-- release, and that of its project, which all the others lock, too.
alter table run drop constraint run_project_fkey, drop constraint run_project_release_flow_release_fkey;
