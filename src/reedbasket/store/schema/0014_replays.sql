-- The run that gave a reject to its warehouse once more: where its load is in the ledger, the reject is through, even if the worker was
-- killed before it was forgotten.
alter table reject add column replayed_by integer;
