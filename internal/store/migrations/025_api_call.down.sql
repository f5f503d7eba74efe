drop table api_call;
