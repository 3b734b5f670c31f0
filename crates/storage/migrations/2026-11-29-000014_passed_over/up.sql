-- Records that were forgotten before a connector delivered them, which it passed over because it was told to.
ALTER TABLE connectors ADD COLUMN passed_over bigint NOT NULL DEFAULT 0;
