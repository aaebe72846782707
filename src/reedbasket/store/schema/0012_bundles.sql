-- A run whose records become files in place of rows of the feed's warehouse.
alter table run add column bundle integer not null default 0;
