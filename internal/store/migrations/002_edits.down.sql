drop index part_edit_part;
