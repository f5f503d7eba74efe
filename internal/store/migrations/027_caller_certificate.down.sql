delete from caller_key where certificate;
alter table caller_key drop constraint caller_key_pkey, add primary key (digest), drop column certificate;
