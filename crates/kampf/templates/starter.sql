-- Replace this by the SQL that makes your tables.

CREATE TABLE shelf (
    id   INTEGER PRIMARY KEY,
    name VARCHAR(60) NOT NULL UNIQUE
);

CREATE TABLE jar (
    id        INTEGER PRIMARY KEY,
    shelf_id  INTEGER NOT NULL REFERENCES shelf (id),
    label     VARCHAR(20) NOT NULL,
    grams     INTEGER NOT NULL CHECK (grams > 0),
    filled_on DATE NOT NULL
);
CREATE INDEX jar_shelf ON jar (shelf_id);
