-- A workshop with studios: fifteen tables, as an application keeps them.
CREATE TABLE studio (
    id INTEGER PRIMARY KEY,
    name VARCHAR(120) NOT NULL UNIQUE,
    time_zone VARCHAR(40) NOT NULL DEFAULT 'Europe/Berlin',
    country CHAR(2) NOT NULL DEFAULT 'DE',
    currency CHAR(3) NOT NULL DEFAULT 'EUR',
    created_at TIMESTAMP NOT NULL,
    closed_at TIMESTAMP
);
CREATE TABLE member (
    id INTEGER PRIMARY KEY,
    studio_id INTEGER NOT NULL REFERENCES studio,
    first_name VARCHAR(60) NOT NULL,
    last_name VARCHAR(60) NOT NULL,
    email VARCHAR(160) NOT NULL,
    joined_on DATE NOT NULL,
    left_on DATE,
    is_blocked BOOLEAN NOT NULL DEFAULT FALSE,
    UNIQUE (studio_id, email)
);
CREATE TABLE kind (
    id INTEGER PRIMARY KEY,
    name VARCHAR(80) NOT NULL UNIQUE,
    recipe TEXT NOT NULL,
    discontinued BOOLEAN NOT NULL DEFAULT FALSE,
    height_mm INTEGER NOT NULL CHECK (height_mm BETWEEN 20 AND 900),
    weight_grams INTEGER NOT NULL CHECK (weight_grams BETWEEN 20 AND 20000)
);
CREATE TABLE shelf (
    id INTEGER PRIMARY KEY,
    studio_id INTEGER NOT NULL REFERENCES studio,
    name VARCHAR(60) NOT NULL,
    capacity INTEGER NOT NULL DEFAULT 40,
    UNIQUE (studio_id, name)
);
CREATE TABLE piece (
    id INTEGER PRIMARY KEY,
    studio_id INTEGER NOT NULL REFERENCES studio,
    member_id INTEGER NOT NULL REFERENCES member,
    kind_id INTEGER NOT NULL REFERENCES kind,
    shelf_id INTEGER REFERENCES shelf,
    label VARCHAR(30) NOT NULL,
    state VARCHAR(20) NOT NULL DEFAULT 'draft' CHECK (state IN ('draft', 'thrown', 'bisque', 'glazed', 'finished', 'broken')),
    created_at TIMESTAMP NOT NULL,
    finished_at TIMESTAMP,
    deleted_at TIMESTAMP
);
CREATE TABLE piece_step (
    id INTEGER PRIMARY KEY,
    piece_id INTEGER NOT NULL REFERENCES piece,
    seq INTEGER NOT NULL,
    from_state VARCHAR(20) CHECK (from_state IN ('draft', 'thrown', 'bisque', 'glazed', 'finished', 'broken')),
    to_state VARCHAR(20) NOT NULL CHECK (to_state IN ('draft', 'thrown', 'bisque', 'glazed', 'finished', 'broken')),
    member_id INTEGER NOT NULL REFERENCES member,
    changed_at TIMESTAMP NOT NULL,
    UNIQUE (piece_id, seq)
);
CREATE TABLE kiln (
    id INTEGER PRIMARY KEY,
    studio_id INTEGER NOT NULL REFERENCES studio,
    label VARCHAR(40) NOT NULL,
    max_celsius INTEGER NOT NULL DEFAULT 1280,
    installed_on DATE NOT NULL
);
CREATE TABLE firing (
    id INTEGER PRIMARY KEY,
    kiln_id INTEGER NOT NULL REFERENCES kiln,
    operator_id INTEGER NOT NULL REFERENCES member (id),
    scheduled_at TIMESTAMP NOT NULL,
    started_at TIMESTAMP,
    finished_at TIMESTAMP,
    log TEXT
);
CREATE TABLE firing_piece (
    firing_id INTEGER NOT NULL REFERENCES firing,
    piece_id INTEGER NOT NULL REFERENCES piece,
    level INTEGER NOT NULL DEFAULT 1,
    PRIMARY KEY (firing_id, piece_id)
);
CREATE TABLE booking (
    id INTEGER PRIMARY KEY,
    studio_id INTEGER NOT NULL REFERENCES studio,
    member_id INTEGER NOT NULL REFERENCES member,
    shelf_id INTEGER REFERENCES shelf,
    starts_at TIMESTAMP NOT NULL,
    ends_at TIMESTAMP NOT NULL,
    created_at TIMESTAMP NOT NULL,
    cancelled_at TIMESTAMP,
    CHECK (ends_at > starts_at)
);
CREATE TABLE invoice (
    id INTEGER PRIMARY KEY,
    studio_id INTEGER NOT NULL REFERENCES studio,
    member_id INTEGER NOT NULL REFERENCES member,
    number VARCHAR(20) NOT NULL UNIQUE,
    status VARCHAR(12) NOT NULL DEFAULT 'open' CHECK (status IN ('open', 'sent', 'paid', 'overdue', 'void')),
    vat_rate DECIMAL(4, 2) NOT NULL DEFAULT 19.00,
    issued_on DATE NOT NULL,
    due_on DATE NOT NULL,
    paid_at TIMESTAMP
);
CREATE TABLE invoice_line (
    invoice_id INTEGER NOT NULL REFERENCES invoice,
    position INTEGER NOT NULL,
    piece_id INTEGER REFERENCES piece,
    text VARCHAR(200) NOT NULL,
    quantity INTEGER NOT NULL DEFAULT 1 CHECK (quantity > 0),
    price_cents INTEGER NOT NULL CHECK (price_cents >= 0),
    PRIMARY KEY (invoice_id, position)
);
CREATE TABLE comment (
    id INTEGER PRIMARY KEY,
    piece_id INTEGER NOT NULL REFERENCES piece,
    member_id INTEGER NOT NULL REFERENCES member,
    parent_id INTEGER REFERENCES comment (id),
    body TEXT NOT NULL,
    created_at TIMESTAMP NOT NULL,
    edited_at TIMESTAMP
);
CREATE TABLE sensor (
    id INTEGER PRIMARY KEY,
    kiln_id INTEGER NOT NULL REFERENCES kiln,
    serial VARCHAR(24) NOT NULL UNIQUE,
    retired BOOLEAN NOT NULL DEFAULT FALSE
);
CREATE TABLE sensor_reading (
    id BIGINT PRIMARY KEY,
    sensor_id INTEGER NOT NULL REFERENCES sensor,
    reading_ts BIGINT NOT NULL,
    sent_epoch INTEGER NOT NULL,
    celsius DECIMAL(6, 1) NOT NULL
);
