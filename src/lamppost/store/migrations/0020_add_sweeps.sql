-- Sweeps over settings of lanes. plan : of lamppost.core.sweep.sweep_plan. node : that measures. combinations : that could be measured,
-- null until the versions were looked at. busy_s : seconds that were spent on measuring.
CREATE TABLE sweeps (
    name         text PRIMARY KEY,
    number       bigint GENERATED ALWAYS AS IDENTITY,
    plan         json NOT NULL,
    node         text NOT NULL,
    state        text NOT NULL DEFAULT 'waiting'
                 CHECK (state IN ('waiting', 'running', 'stopping', 'stopped', 'finished', 'failed')),
    reason       text,
    combinations integer,
    cores        integer,
    busy_s       double precision NOT NULL DEFAULT 0,
    made_by      text NOT NULL,
    made_at      timestamptz NOT NULL DEFAULT now(),
    started_at   timestamptz,
    ended_at     timestamptz
);
CREATE INDEX sweeps_by_number ON sweeps (number DESC);

-- measured : of lamppost.core.sweep.measurement.
CREATE TABLE sweep_measurements (
    sweep    text NOT NULL REFERENCES sweeps ON DELETE CASCADE,
    number   integer NOT NULL,
    measured json NOT NULL,
    at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (sweep, number)
);
