alter table run add foreign key (project) references project, add foreign key (project, release_flow, release) references release (project, flow, number);
