//! Opening a chart when a year is stored: ranges of any length, one measure, by the API.

use std::time::Instant;

use sqlx::Executor;
use time::{OffsetDateTime, format_description::well_known::Rfc3339};

use crate::{
    Failure, Plan,
    committed::open_database,
    process::Program,
    report::{Spread, count, judged},
    tree::look,
};

/// Milliseconds of any range, at most.
const GOAL: f64 = 300.0;

/// Series that have values; those of a busy broker.
const SERIES: i64 = 45;

/// Each resolution, seconds, with the days of it that are stored.
const STORED: [(i32, i32); 3] = [(10, 2), (60, 14), (900, 400)];

/// What is opened: so many hours back from now, and so long.
const RANGES: [(&str, u32, u32); 6] = [
    ("the last hour", 1, 1),
    ("the last day", 24, 24),
    ("a day a week ago", 7 * 24, 24),
    ("the last week", 7 * 24, 7 * 24),
    ("90 days", 90 * 24, 90 * 24),
    ("a year", 365 * 24, 365 * 24),
];

pub(crate) async fn run(plan: &Plan) -> Result<(), Failure> {
    println!("history: {SERIES} measures over a year, one of them opened");
    let service = Program::service(plan)?;
    let pool = open_database(&service).await?;
    // The service has made its series when it writes its first span.
    while sqlx::query_scalar::<_, i64>("SELECT count(*) FROM history_series").fetch_one(&pool).await? < SERIES {
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    }
    for (resolution, days) in STORED {
        let spans = "INSERT INTO history_span SELECT $1, at, 1 FROM generate_series( \
                 date_bin('15 minutes', now(), timestamptz '2000-01-01 00:00:00Z') - make_interval(days => $2), \
                 date_bin('15 minutes', now(), timestamptz '2000-01-01 00:00:00Z'), make_interval(secs => $1)) AS at \
             ON CONFLICT DO NOTHING";
        sqlx::query(spans).bind(resolution).bind(days).execute(&pool).await?;
        // All series of one span after the other, as they come.
        let rows = "INSERT INTO history SELECT id, $1, at, 1, 2 + random(), 4, 2 FROM history_span, \
                 (SELECT id FROM history_series ORDER BY name <> 'messages_in', id LIMIT $2) AS chosen \
             WHERE resolution = $1 ORDER BY at, id ON CONFLICT DO NOTHING";
        sqlx::query(rows).bind(resolution).bind(SERIES).execute(&pool).await?;
    }
    // As the server does by itself in time.
    pool.execute("VACUUM ANALYZE history").await?;
    pool.execute("VACUUM ANALYZE history_span").await?;
    let size: i64 = sqlx::query_scalar("SELECT pg_total_relation_size('history')").fetch_one(&pool).await?;
    let rows: i64 = sqlx::query_scalar("SELECT count(*) FROM history").fetch_one(&pool).await?;
    println!("  {} values, {} MiB", count(rows as f64), count(size as f64 / 1024.0 / 1024.0));
    let now = OffsetDateTime::now_utc().replace_nanosecond(0)?;
    let mut spans = Vec::new();
    for _ in 0..plan.rounds {
        let began = Instant::now();
        let year = "SELECT at, mean FROM history JOIN history_series ON id = series \
             WHERE name = 'messages_in' AND resolution = 900 AND at > now() - interval '365 days' ORDER BY at";
        let rows = sqlx::query(year).fetch_all(&pool).await?;
        spans.push(began.elapsed().as_secs_f64() * 1_000.0);
        if rows.len() < 30_000 {
            return Err(format!("only {} rows of a year", rows.len()).into());
        }
    }
    println!("  {:34}  {} ms", "a year's rows, straight from SQL", Spread::of(spans));
    let date = |hours: u32| {
        let at = now - time::Duration::hours(hours.into());
        at.format(&Rfc3339).unwrap_or_default()
    };
    let calls = RANGES.map(|(words, back, length)| {
        let (from, to) = (date(back), date(back - length));
        (words, format!("history?series=messages_in&from={from}&to={to}&points=500"))
    });
    let calls: Vec<(&str, &str)> = calls.iter().map(|(words, call)| (*words, call.as_str())).collect();
    let worst = look(plan, &service, &reqwest::Client::new(), &calls).await?;
    println!(
        "  wanted at most {GOAL} ms each: {}\n",
        judged("history", format!("{worst:.0} ms"), format!("≤ {GOAL} ms"), worst <= GOAL)
    );
    Ok(())
}
