-- A chain of animal clinics, in the manner of a server that numbers its rows and knows enumerations.
CREATE TYPE visit_status AS ENUM ('requested', 'confirmed', 'in_progress', 'completed', 'no_show', 'cancelled');
CREATE TABLE clinics (
    id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    slug VARCHAR(80) NOT NULL UNIQUE,
    display_name VARCHAR(120) NOT NULL,
    timezone TEXT NOT NULL DEFAULT 'Europe/Vienna',
    locale VARCHAR(10) NOT NULL DEFAULT 'de-AT',
    opened_on DATE NOT NULL,
    archived_at TIMESTAMPTZ
);
CREATE TABLE staff (
    id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    clinic_id BIGINT NOT NULL REFERENCES clinics (id),
    full_name VARCHAR(120) NOT NULL,
    email VARCHAR(160) NOT NULL UNIQUE,
    hired_on DATE NOT NULL,
    suspended BOOLEAN NOT NULL DEFAULT false
);
CREATE TABLE owners (
    id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    clinic_id BIGINT NOT NULL REFERENCES clinics (id),
    full_name VARCHAR(120) NOT NULL,
    phone VARCHAR(30),
    registered_at TIMESTAMPTZ NOT NULL DEFAULT now(),
    last_seen_at TIMESTAMPTZ
);
CREATE TABLE species (
    id INTEGER PRIMARY KEY,
    name VARCHAR(60) NOT NULL UNIQUE
);
CREATE TABLE animals (
    id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    owner_id BIGINT NOT NULL REFERENCES owners (id),
    species_id INTEGER NOT NULL REFERENCES species (id),
    name VARCHAR(60) NOT NULL,
    born_on DATE,
    weight_grams INTEGER NOT NULL CHECK (weight_grams > 0 AND weight_grams <= 90000),
    created_at TIMESTAMPTZ NOT NULL DEFAULT now(),
    deleted_at TIMESTAMPTZ
);
CREATE TABLE rooms (
    id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    clinic_id BIGINT NOT NULL REFERENCES clinics (id),
    title VARCHAR(60) NOT NULL,
    width_mm INTEGER NOT NULL,
    UNIQUE (clinic_id, title)
);
CREATE TABLE visits (
    id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    clinic_id BIGINT NOT NULL REFERENCES clinics (id),
    animal_id BIGINT NOT NULL REFERENCES animals (id),
    staff_id BIGINT NOT NULL REFERENCES staff (id),
    room_id BIGINT REFERENCES rooms (id),
    status visit_status NOT NULL DEFAULT 'requested',
    requested_at TIMESTAMPTZ NOT NULL,
    scheduled_at TIMESTAMPTZ NOT NULL,
    started_at TIMESTAMPTZ,
    completed_at TIMESTAMPTZ,
    cancelled_at TIMESTAMPTZ
);
CREATE TABLE visit_events (
    id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    visit_id BIGINT NOT NULL REFERENCES visits (id) ON DELETE CASCADE,
    old_status visit_status,
    new_status visit_status NOT NULL,
    staff_id BIGINT REFERENCES staff (id),
    reason TEXT,
    created_at TIMESTAMPTZ NOT NULL
);
CREATE TABLE notes (
    id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    visit_id BIGINT NOT NULL REFERENCES visits (id),
    author_id BIGINT NOT NULL REFERENCES staff (id),
    reply_to_id BIGINT REFERENCES notes (id),
    content TEXT NOT NULL,
    posted_at TIMESTAMPTZ NOT NULL,
    edited BOOLEAN NOT NULL DEFAULT false
);
CREATE TABLE drugs (
    id INTEGER PRIMARY KEY,
    name VARCHAR(80) NOT NULL UNIQUE,
    dose_ml DECIMAL(6, 1) NOT NULL CHECK (dose_ml > 0),
    withdrawn BOOLEAN NOT NULL DEFAULT false,
    instructions TEXT NOT NULL
);
CREATE TABLE prescriptions (
    id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    visit_id BIGINT NOT NULL REFERENCES visits (id),
    drug_id INTEGER NOT NULL REFERENCES drugs (id),
    issued_on DATE NOT NULL,
    expires_on DATE NOT NULL
);
CREATE TABLE bills (
    id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    clinic_id BIGINT NOT NULL REFERENCES clinics (id),
    owner_id BIGINT NOT NULL REFERENCES owners (id),
    visit_id BIGINT NOT NULL REFERENCES visits (id),
    amount_cents INTEGER NOT NULL,
    tax_percent DECIMAL(5, 2) NOT NULL DEFAULT 20.00,
    created_at TIMESTAMPTZ NOT NULL,
    issued_at TIMESTAMPTZ,
    due_date DATE NOT NULL,
    paid_at TIMESTAMPTZ
);
CREATE TABLE staff_rooms (
    staff_id BIGINT NOT NULL REFERENCES staff (id),
    room_id BIGINT NOT NULL REFERENCES rooms (id),
    since DATE NOT NULL,
    PRIMARY KEY (staff_id, room_id)
);
CREATE TABLE jobs (
    id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    clinic_id BIGINT NOT NULL REFERENCES clinics (id),
    kind VARCHAR(30) NOT NULL,
    queued_at TIMESTAMPTZ NOT NULL,
    started_at TIMESTAMPTZ,
    finished_at TIMESTAMPTZ,
    log TEXT
);
CREATE TABLE audit_log (
    id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    clinic_id BIGINT NOT NULL REFERENCES clinics (id),
    staff_id BIGINT NOT NULL REFERENCES staff (id),
    action VARCHAR(40) NOT NULL,
    logged_ts BIGINT NOT NULL
);
