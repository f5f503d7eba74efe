drop table channel_aside;
drop table channel_claim;
drop table channel_reader;
drop table channel_message;
drop sequence channel_message_id;
drop table channel;
