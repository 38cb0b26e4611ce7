-- A made-up network of apiaries.

CREATE TABLE region (
    id   INTEGER PRIMARY KEY,
    name VARCHAR(80) NOT NULL UNIQUE
);

CREATE TABLE keeper (
    id        INTEGER PRIMARY KEY,
    name      VARCHAR(80) NOT NULL,
    email     VARCHAR(120) NOT NULL UNIQUE,
    joined_on DATE NOT NULL,
    active    BOOLEAN NOT NULL DEFAULT TRUE
);

CREATE TABLE apiary (
    id        INTEGER PRIMARY KEY,
    region_id INTEGER NOT NULL REFERENCES region (id),
    keeper_id INTEGER NOT NULL REFERENCES keeper (id),
    name      VARCHAR(80) NOT NULL,
    altitude  INTEGER NOT NULL CHECK (altitude BETWEEN 0 AND 2500),
    UNIQUE (region_id, name)
);
CREATE INDEX apiary_keeper ON apiary (keeper_id);

CREATE TABLE strain (
    id      INTEGER PRIMARY KEY,
    name    VARCHAR(80) NOT NULL UNIQUE,
    origin  VARCHAR(80)
);

CREATE TABLE hive (
    id           INTEGER PRIMARY KEY,
    apiary_id    INTEGER NOT NULL REFERENCES apiary (id),
    strain_id    INTEGER NOT NULL REFERENCES strain (id),
    label        VARCHAR(20) NOT NULL,
    frames       INTEGER NOT NULL CHECK (frames BETWEEN 8 AND 24),
    state        TEXT NOT NULL CHECK (state IN ('thriving', 'weak', 'empty')),
    installed_on DATE NOT NULL
);
CREATE INDEX hive_apiary ON hive (apiary_id);
CREATE INDEX hive_strain ON hive (strain_id);

CREATE TABLE inspection (
    id           INTEGER PRIMARY KEY,
    hive_id      INTEGER NOT NULL REFERENCES hive (id) ON DELETE CASCADE,
    inspected_at TIMESTAMP NOT NULL,
    temper       INTEGER NOT NULL CHECK (temper BETWEEN 1 AND 10),
    mites        INTEGER,
    remarks      TEXT
);
CREATE INDEX inspection_hive ON inspection (hive_id, temper);

CREATE TABLE weighing (
    id         INTEGER PRIMARY KEY,
    hive_id    INTEGER NOT NULL REFERENCES hive (id) ON DELETE CASCADE,
    weighed_at TIMESTAMP NOT NULL,
    kilograms  DECIMAL(6, 2) NOT NULL CHECK (kilograms > 0)
);
CREATE INDEX weighing_hive ON weighing (hive_id);

CREATE TABLE plant (
    id      INTEGER PRIMARY KEY,
    name    VARCHAR(80) NOT NULL UNIQUE,
    flowers VARCHAR(20),
    nectar  INTEGER NOT NULL CHECK (nectar BETWEEN 0 AND 5),
    habitat TEXT NOT NULL,
    care    TEXT NOT NULL
);

CREATE TABLE apiary_plant (
    apiary_id INTEGER NOT NULL REFERENCES apiary (id),
    plant_id  INTEGER NOT NULL REFERENCES plant (id),
    PRIMARY KEY (apiary_id, plant_id)
);
