-- Five million keepers of bees, all made up.

CREATE TABLE keeper (
    id        INTEGER PRIMARY KEY,
    name      VARCHAR(80) NOT NULL,
    email     VARCHAR(120) NOT NULL,
    town      VARCHAR(60) NOT NULL,
    phone     VARCHAR(24) NOT NULL,
    joined_on DATE NOT NULL,
    active    BOOLEAN NOT NULL DEFAULT TRUE
);
