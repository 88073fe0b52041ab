DROP TABLE pair_route;
