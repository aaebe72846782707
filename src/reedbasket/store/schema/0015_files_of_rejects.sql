-- The number of the file that a reject stood in, as `_rb_file` of its warehouse knows it.
alter table reject add column file integer;
