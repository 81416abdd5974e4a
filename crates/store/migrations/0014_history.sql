-- What was measured over time. A series is a measure, or what of it goes by one label.
CREATE TABLE history_series (
    id smallint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name text NOT NULL UNIQUE,
    -- Counters: a span in which nothing was counted has no row.
    zero_left_out boolean NOT NULL
);

-- The spans that were measured, by their ends. The span is as many seconds long as the resolution says.
CREATE TABLE history_span (
    resolution smallint NOT NULL CHECK (resolution IN (10, 60, 900)),
    at timestamptz NOT NULL,
    -- Of how many finer spans it was made.
    parts integer NOT NULL CHECK (parts > 0),
    PRIMARY KEY (resolution, at)
);

-- Of counters the rates per second, of all others the values.
CREATE TABLE history (
    series smallint NOT NULL REFERENCES history_series,
    resolution smallint NOT NULL CHECK (resolution IN (10, 60, 900)),
    at timestamptz NOT NULL,
    minimum real NOT NULL,
    mean real NOT NULL,
    maximum real NOT NULL,
    last real NOT NULL,
    PRIMARY KEY (series, resolution, at) INCLUDE (minimum, mean, maximum, last)
);

-- What is to be known of a time: why spans are missing, or that they were made up.
CREATE TABLE history_remark (
    began_at timestamptz NOT NULL,
    kind text NOT NULL,
    ended_at timestamptz NOT NULL,
    PRIMARY KEY (began_at, kind)
);

-- What was kept before: a row a minute, with six counters and the sessions.
INSERT INTO history_series (name, zero_left_out) VALUES
    ('messages_in', true), ('messages_out', true), ('bytes_in', true), ('bytes_out', true), ('withheld', true),
    ('refused', true), ('sessions_connected', false);

CREATE TEMPORARY TABLE old_value ON COMMIT DROP AS
    SELECT resolution, date_bin('1 minute', at, timestamptz '2000-01-01 00:00:00Z') + interval '1 minute' AS minute,
        date_bin('15 minutes', at, timestamptz '2000-01-01 00:00:00Z') + interval '15 minutes' AS quarter,
        each.key AS name, each.value::double precision / span_seconds AS rate
    FROM throughput_sample, jsonb_each_text(counts) AS each
    WHERE resolution = 60
    UNION ALL
    SELECT resolution, date_bin('1 minute', at, timestamptz '2000-01-01 00:00:00Z') + interval '1 minute',
        date_bin('15 minutes', at, timestamptz '2000-01-01 00:00:00Z') + interval '15 minutes',
        'sessions_connected', sessions
    FROM throughput_sample
    WHERE resolution = 60;

INSERT INTO history_span SELECT DISTINCT 60, minute, 6 FROM old_value;
INSERT INTO history_span SELECT 900, quarter, count(DISTINCT minute) FROM old_value GROUP BY quarter;
INSERT INTO history
    SELECT series.id, 60, minute, min(rate), avg(rate), max(rate), max(rate)
    FROM old_value JOIN history_series AS series USING (name)
    WHERE NOT (zero_left_out AND rate = 0)
    GROUP BY series.id, minute;
INSERT INTO history
    SELECT series.id, 900, quarter, min(rate), avg(rate), max(rate), (array_agg(rate ORDER BY minute DESC))[1]
    FROM old_value JOIN history_series AS series USING (name)
    GROUP BY series.id, quarter
    HAVING max(rate) > 0 OR NOT bool_and(zero_left_out);

DROP TABLE throughput_sample;
