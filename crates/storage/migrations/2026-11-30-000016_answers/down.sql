ALTER TABLE session_answers DROP COLUMN digest, DROP COLUMN told;
ALTER TABLE idempotency_keys DROP COLUMN told;
ALTER TABLE topics DROP COLUMN scattered;
