DROP TABLE functions;
