-- What came with a key of idempotency, as a digest: the same key with something else is another request.
alter table pickup add column digest text not null default '';
