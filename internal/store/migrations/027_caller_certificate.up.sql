-- A key is a text that a caller sends, or a certificate that it shows: the digest of one is never taken for the other. A certificate may
-- be known in several places.
alter table caller_key add column certificate boolean not null default false, drop constraint caller_key_pkey, add primary key (digest, caller);
