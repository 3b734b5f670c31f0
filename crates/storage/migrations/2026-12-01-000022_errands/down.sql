DROP TABLE errands;
