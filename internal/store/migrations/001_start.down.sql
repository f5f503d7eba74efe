drop table set_aside, journal, pickup, run, worker, release_file, release, part, part_edit, project, person;
