DROP TABLE lanes; DROP TABLE connectors; DROP TABLE connections; DROP TABLE schemas;
