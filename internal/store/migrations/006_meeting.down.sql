drop table gathered, awaiting, letter, kept;
