-- Schedules of bulk runs. written : the order of each run. next_at : the first time that was not decided yet, null for never.
CREATE TABLE schedules (
    name        text PRIMARY KEY,
    every       text NOT NULL,
    zone        text NOT NULL,
    written     json NOT NULL,
    missed      text NOT NULL,
    paused      boolean NOT NULL,
    made_by     text NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT now(),
    next_at     timestamptz
);

-- Times that came, and what was done about each: a row is there before its run is, so that nobody else starts it.
CREATE TABLE schedule_times (
    schedule    text NOT NULL REFERENCES schedules (name) ON DELETE CASCADE,
    due_at      timestamptz NOT NULL,
    decided_at  timestamptz NOT NULL DEFAULT now(),
    state       text NOT NULL,
    run         text,
    note        text,
    PRIMARY KEY (schedule, due_at)
);
