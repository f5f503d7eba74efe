drop table serves;
