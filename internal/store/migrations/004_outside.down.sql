drop index set_aside_rerun;
drop table collected;
drop table effect;
drop table trigger_state;
drop table health;
drop table secret;
drop table setting;
