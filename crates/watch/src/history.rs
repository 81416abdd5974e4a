//! History: a span of every ten seconds, written to the database several together, rolled up and forgotten in small steps.

use std::{collections::HashMap, sync::Arc, time::Duration};

use moorfall_contract::history::RemarkKind;
use moorfall_core::measure::{Kind, Measure, Series, Values};
use moorfall_store::{Asked, Database, Remark, Resolution, SeriesId, Span, Store, StoreError};
use time::OffsetDateTime;
use tokio::{
    sync::mpsc::Receiver,
    time::{Instant, sleep, timeout},
};
use tokio_util::sync::CancellationToken;

/// Spans that wait for the database, an hour's worth; beyond it the newest are lost, and the gap is told.
pub const WAITING: usize = 360;

/// How long one statement may take.
const ANSWER_TIME: Duration = Duration::from_secs(10);

/// Between two tries while the database is away.
const RETRY: Duration = Duration::from_secs(1);

/// Spans that are rolled up at a time.
const ROLLED: u32 = 10;

/// Between two times that what is old is looked for.
const FORGET_EVERY: Duration = Duration::from_secs(3_600);

/// Between two steps of forgetting.
const FORGET_PAUSE: Duration = Duration::from_millis(20);

/// For how long spans of each resolution are kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Keep {
    /// Spans of ten seconds.
    pub ten_seconds: Duration,
    /// Minutes.
    pub minutes: Duration,
    /// Quarters of an hour.
    pub quarter_hours: Duration,
}

impl Keep {
    /// For how long those of one resolution are kept.
    pub fn of(&self, resolution: Resolution) -> Duration {
        match resolution {
            Resolution::TenSeconds => self.ten_seconds,
            Resolution::Minute => self.minutes,
            Resolution::QuarterHour => self.quarter_hours,
        }
    }
}

/// What was measured in a span: of each kept series its value, not a number where there is none.
#[derive(Clone, Debug)]
pub struct Measured {
    /// The end of the span.
    pub at: OffsetDateTime,
    /// In the order of [`kept`].
    pub values: Arc<[f32]>,
    /// Whether spans before this one were lost.
    pub after_lost: bool,
}

/// The series that history keeps.
pub fn kept() -> impl Iterator<Item = Series> {
    Measure::ALL.iter().filter(|measure| measure.is_kept()).flat_map(|measure| measure.series())
}

/// The numbers of the kept series in the database, by their names.
pub async fn numbers(store: &Store) -> Result<HashMap<String, SeriesId>, StoreError> {
    let named = kept().map(|series| (series.to_string(), series.measure().kind() == Kind::Counter));
    store.history_series(&named.collect::<Vec<_>>()).await
}

/// Of counters the rates between two readings, of all others the values of the later one. Rates are over the whole span, so
/// that sums are right: in the first one the service ran for a part of it.
pub(crate) fn measure(before: &Values, now: &Values) -> Arc<[f32]> {
    let value = |series: Series| match series.measure().kind() {
        Kind::Counter => {
            let counted = now.count(series).saturating_sub(before.count(series));
            (counted as f64 / f64::from(Resolution::TenSeconds.seconds())) as f32
        }
        Kind::Gauge | Kind::Timing => now.value(series).map_or(f32::NAN, |value| value as f32),
    };
    kept().map(value).collect()
}

/// Writes spans until the channel is closed; then what is left is written, or given up if the database is away. `was_killed`
/// says how the time before the first span ended.
pub async fn run(
    database: Arc<Database>,
    stopping: CancellationToken,
    keep: Keep,
    was_killed: bool,
    mut spans: Receiver<Measured>,
) {
    let gap = Some(if was_killed { RemarkKind::Killed } else { RemarkKind::Stopped });
    let mut writer = Writer { database, keep, series: Vec::new(), newest: None, gap };
    let mut waiting: Vec<Measured> = Vec::new();
    let mut forgot: Option<Instant> = None;
    loop {
        let open = spans.recv_many(&mut waiting, WAITING).await > 0;
        while let Err(why) = writer.write(&mut waiting).await {
            writer.database.failed(Asked::History, &why).await;
            if stopping.is_cancelled() {
                return;
            }
            tokio::select! {
                () = sleep(RETRY) => {}
                () = stopping.cancelled() => {}
            }
        }
        writer.database.carried_out(Asked::History);
        if !open {
            return;
        }
        if forgot.is_none_or(|at| at.elapsed() > FORGET_EVERY) {
            forgot = Some(Instant::now());
            if let Err(error) = writer.forget(&stopping).await {
                tracing::warn!(%error, "old history can't be removed");
            }
        }
    }
}

struct Writer {
    database: Arc<Database>,
    keep: Keep,
    /// Numbers of the kept series, once they are known.
    series: Vec<SeriesId>,
    /// The end of the newest span that was written.
    newest: Option<OffsetDateTime>,
    /// Why the next span does not follow the newest one.
    gap: Option<RemarkKind>,
}

impl Writer {
    /// Writes what waits, and rolls up what is due. On failure what is not written goes on waiting.
    async fn write(&mut self, waiting: &mut Vec<Measured>) -> Result<(), StoreError> {
        if self.series.is_empty() {
            self.series = answered(self.numbers()).await?;
            self.newest = answered(self.database.store.newest_history(Resolution::TenSeconds)).await?;
        }
        let Some(first) = waiting.first() else { return Ok(()) };
        if first.after_lost {
            self.gap = Some(RemarkKind::DatabaseAway);
        }
        if let (Some(kind), Some(newest)) = (self.gap, self.newest) {
            let ended_at = first.at - Duration::from_secs(Resolution::TenSeconds.seconds().into());
            if ended_at > newest {
                let remark = Remark { began_at: newest, ended_at, kind: kind.name().to_owned() };
                answered(self.database.store.add_remark(&remark)).await?;
            }
        }
        self.gap = None;
        // Up to the next span before which some were lost.
        let count = 1 + waiting[1..].iter().take_while(|one| !one.after_lost).count();
        let spans: Vec<Span> = waiting[..count].iter().map(|one| self.span(one)).collect();
        answered(self.database.store.add_history(Resolution::TenSeconds, &spans)).await?;
        self.newest = spans.last().map(|span| span.at);
        waiting.drain(..count);
        let [ten_seconds, minute, quarter_hour] = Resolution::ALL;
        while answered(self.database.store.roll_up(ten_seconds, minute, ROLLED)).await? == u64::from(ROLLED) {}
        while answered(self.database.store.roll_up(minute, quarter_hour, ROLLED)).await? == u64::from(ROLLED) {}
        if waiting.is_empty() { Ok(()) } else { Box::pin(self.write(waiting)).await }
    }

    /// The numbers of the kept series, in their order.
    async fn numbers(&self) -> Result<Vec<SeriesId>, StoreError> {
        let mut known = numbers(&self.database.store).await?;
        let numbers = kept().map(|series| known.remove(&series.to_string()));
        numbers
            .collect::<Option<_>>()
            .ok_or_else(|| StoreError::Damaged("a series of the history has no number".into()))
    }

    fn span(&self, measured: &Measured) -> Span {
        let known = kept().zip(&self.series).zip(&*measured.values);
        let told = known.filter(|((series, _), value)| match series.measure().kind() {
            Kind::Counter => **value != 0.0,
            Kind::Gauge | Kind::Timing => !value.is_nan(),
        });
        Span { at: measured.at, values: told.map(|((_, id), value)| (*id, *value)).collect() }
    }

    /// Forgets what is older than it is kept, a series at a time.
    async fn forget(&self, stopping: &CancellationToken) -> Result<(), StoreError> {
        let store = &self.database.store;
        let mut oldest = OffsetDateTime::now_utc();
        for resolution in Resolution::ALL {
            let before = OffsetDateTime::now_utc() - self.keep.of(resolution);
            oldest = oldest.min(before);
            for series in self.series.iter().copied().map(Some).chain([None]) {
                answered(store.forget_history(series, resolution, before)).await?;
                if stopping.is_cancelled() {
                    return Ok(());
                }
                sleep(FORGET_PAUSE).await;
            }
        }
        answered(store.forget_remarks(oldest)).await?;
        Ok(())
    }
}

async fn answered<T>(asked: impl Future<Output = Result<T, StoreError>>) -> Result<T, StoreError> {
    timeout(ANSWER_TIME, asked).await.unwrap_or(Err(StoreError::Silent))
}
