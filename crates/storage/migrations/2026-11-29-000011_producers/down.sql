DROP TABLE producers;
