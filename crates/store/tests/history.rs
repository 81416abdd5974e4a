//! History against a real PostgreSQL: spans, what is rolled up of them, what is forgotten, and how much room it takes.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{collections::HashMap, os::unix::fs::PermissionsExt};

use moorfall_store::{Point, PrivateCluster, Remark, Resolution, SeriesId, Span, Store};
use sqlx::{PgPool, postgres::PgConnectOptions};
use tempfile::TempDir;
use time::{Duration, OffsetDateTime};

use Resolution::{Minute, QuarterHour, TenSeconds};

/// A cluster with an empty history.
struct Place {
    folder: TempDir,
    cluster: PrivateCluster,
    store: Store,
    series: HashMap<String, SeriesId>,
}

impl Place {
    async fn new() -> Self {
        // PostgreSQL may run as another user, who must be able to pass through.
        let folder = tempfile::Builder::new().permissions(PermissionsExt::from_mode(0o755)).tempdir().unwrap();
        let cluster = PrivateCluster::start(folder.path()).await.unwrap();
        let store = Store::open_private(&cluster).await.unwrap();
        let named = [("messages_in".to_owned(), true), ("sessions_connected".to_owned(), false)];
        let series = store.history_series(&named).await.unwrap();
        assert_eq!(series, store.history_series(&named).await.unwrap(), "a series keeps its number");
        Self { folder, cluster, store, series }
    }

    async fn add(&self, spans: &[(OffsetDateTime, f32, f32)]) {
        let id = |name: &str| self.series[name];
        let spans: Vec<Span> = spans
            .iter()
            .map(|(at, rate, sessions)| {
                let counted = Some((id("messages_in"), *rate)).filter(|(_, rate)| *rate != 0.0);
                let gauge = Some((id("sessions_connected"), *sessions)).filter(|(_, value)| !value.is_nan());
                Span { at: *at, values: counted.into_iter().chain(gauge).collect() }
            })
            .collect();
        self.store.add_history(TenSeconds, &spans).await.unwrap();
    }

    fn options(&self) -> PgConnectOptions {
        let socket = self.folder.path().join("socket");
        PgConnectOptions::new().socket(socket).username("moorfall").database("moorfall")
    }

    /// A series from `begin` on, for so long: of each point the seconds since then, and minimum, mean, maximum and last.
    async fn read(&self, series: &str, of: Resolution, span: i64, step: u32) -> Vec<(i64, [f64; 4])> {
        let range = (begin(), begin() + Duration::seconds(span));
        let points = self.store.history(series, of, range, step).await.unwrap();
        let told = |Point { at, minimum, mean, maximum, last }| {
            ((at - begin()).whole_seconds(), [minimum, mean, maximum, last])
        };
        points.into_iter().map(told).collect()
    }
}

/// A full hour.
fn begin() -> OffsetDateTime {
    OffsetDateTime::from_unix_timestamp(1_793_098_800).unwrap()
}

fn at(seconds: i64) -> OffsetDateTime {
    begin() + Duration::seconds(seconds)
}

#[tokio::test]
async fn spans_are_rolled_up_with_what_was_not_counted() {
    let place = Place::new().await;
    // The first minute is whole: four spans with 6 a second, two without any; the sessions are not known once. Of the second
    // one two spans are missing. The third has begun.
    place
        .add(&[
            (at(10), 6.0, 1.0),
            (at(20), 6.0, 2.0),
            (at(30), 0.0, f32::NAN),
            (at(40), 6.0, 3.0),
            (at(50), 6.0, 3.0),
            (at(60), 0.0, 1.0),
            (at(70), 1.0, 1.0),
            (at(80), 2.0, 1.0),
            (at(90), 3.0, 1.0),
            (at(120), 4.0, 9.0),
            (at(130), 9.0, 9.0),
        ])
        .await;
    place.add(&[(at(10), 99.0, 99.0)]).await;
    assert_eq!(
        place.read("messages_in", TenSeconds, 30, 10).await,
        [(10, [6.0, 6.0, 6.0, 6.0]), (20, [6.0, 6.0, 6.0, 6.0]), (30, [0.0, 0.0, 0.0, 0.0]),]
    );
    assert_eq!(
        place.read("sessions_connected", TenSeconds, 40, 20).await,
        [(20, [1.0, 1.5, 2.0, 2.0]), (40, [3.0, 3.0, 3.0, 3.0]),]
    );
    assert_eq!(place.store.roll_up(TenSeconds, Minute, 10).await.unwrap(), 2, "the third minute is not over");
    assert_eq!(place.store.roll_up(TenSeconds, Minute, 10).await.unwrap(), 0);
    assert_eq!(
        place.read("messages_in", Minute, 180, 60).await,
        [(60, [0.0, 4.0, 6.0, 0.0]), (120, [1.0, 2.5, 4.0, 4.0]),]
    );
    assert_eq!(
        place.read("sessions_connected", Minute, 180, 60).await,
        [(60, [1.0, 2.0, 3.0, 1.0]), (120, [1.0, 3.0, 9.0, 9.0]),]
    );
    // As in several steps, one minute at a time.
    let minutes: Vec<_> = (1..=60 * 6).map(|span| (at(3_600 + 10 * span), span as f32, 2.0)).collect();
    place.add(&minutes).await;
    let mut steps = 0;
    while place.store.roll_up(TenSeconds, Minute, 7).await.unwrap() > 0 {
        steps += 1;
    }
    assert_eq!(steps, 9, "the minute that had begun, and sixty");
    assert_eq!(place.store.roll_up(Minute, QuarterHour, 2).await.unwrap(), 2);
    assert_eq!(place.store.roll_up(Minute, QuarterHour, 9).await.unwrap(), 3);
    let quarters = place.read("messages_in", QuarterHour, 7_200, 900).await;
    assert_eq!(quarters.len(), 5, "{quarters:?}");
    assert_eq!(quarters[1], (3_600 + 900, [1.0, 45.5, 90.0, 90.0]));
    assert_eq!(quarters[4].0, 7_200);
    place.cluster.stop().await;
}

#[tokio::test]
async fn what_is_old_is_forgotten_and_gaps_have_reasons() {
    let place = Place::new().await;
    place.add(&[(at(10), 1.0, 1.0), (at(20), 1.0, 1.0), (at(30), 1.0, 1.0)]).await;
    let messages = Some(place.series["messages_in"]);
    assert_eq!(place.store.forget_history(messages, TenSeconds, at(20)).await.unwrap(), 1);
    assert_eq!(place.store.forget_history(messages, Minute, at(20)).await.unwrap(), 0);
    assert_eq!(place.store.forget_history(None, TenSeconds, at(20)).await.unwrap(), 1);
    assert_eq!(place.read("messages_in", TenSeconds, 60, 10).await.len(), 2);
    assert_eq!(place.store.newest_history(TenSeconds).await.unwrap(), Some(at(30)));

    let gap = |from, to, kind: &str| Remark { began_at: at(from), ended_at: at(to), kind: kind.into() };
    let all = [gap(30, 90, "stopped"), gap(200, 900, "killed"), gap(1_000, 1_010, "stopped")];
    for gap in &all {
        place.store.add_remark(gap).await.unwrap();
        place.store.add_remark(gap).await.unwrap();
    }
    let gaps = async |from, to, most| place.store.remarks((at(from), at(to)), most).await.unwrap();
    assert_eq!(gaps(0, 2_000, 9).await, all);
    assert_eq!(gaps(0, 2_000, 2).await, all[..2], "the longest of too many");
    assert_eq!(gaps(100, 300, 9).await, all[1..2]);
    assert_eq!(place.store.forget_remarks(at(900)).await.unwrap(), 1);
    place.cluster.stop().await;
}

/// What docs/CONFIGURATION.md says: a value takes 150 bytes at most, with its place in the index.
#[tokio::test]
async fn a_value_takes_no_more_room_than_is_said() {
    let place = Place::new().await;
    let database = PgPool::connect_with(place.options()).await.unwrap();
    // Thirty series over an hour, as they come: all of one span after the other.
    let named: Vec<_> = (0..30).map(|number| (format!("series_{number}"), false)).collect();
    let series = place.store.history_series(&named).await.unwrap();
    let spans: Vec<Span> = (1..=360)
        .map(|span| Span { at: at(10 * span), values: series.values().map(|id| (*id, span as f32)).collect() })
        .collect();
    place.store.add_history(TenSeconds, &spans).await.unwrap();
    while place.store.roll_up(TenSeconds, Minute, 10).await.unwrap() > 0 {}
    while place.store.roll_up(Minute, QuarterHour, 10).await.unwrap() > 0 {}
    let (rows, bytes): (i64, i64) = sqlx::query_as("SELECT count(*), pg_total_relation_size('history') FROM history")
        .fetch_one(&database)
        .await
        .unwrap();
    assert_eq!(rows, 30 * (360 + 60 + 4));
    assert!(bytes / rows <= 150, "{bytes} bytes for {rows} values");
    place.cluster.stop().await;
}
