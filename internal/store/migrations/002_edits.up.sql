create index part_edit_part on part_edit (project, path, id);
