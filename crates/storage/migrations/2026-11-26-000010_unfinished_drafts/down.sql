DROP TABLE drafts;
