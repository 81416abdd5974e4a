//! What the operating system says of the process.

use std::time::Instant;

use procfs::{
    WithCurrentSystemInfo,
    process::{LimitValue, Process},
};

/// What was read of the process.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) struct Usage {
    /// Resident memory, bytes.
    pub memory_bytes: u64,
    /// Processor time since the start, seconds.
    pub cpu_seconds: f64,
    /// Open file descriptors.
    pub descriptors: u64,
    /// How many there may be.
    pub descriptors_limit: u64,
}

/// Reads it; `None` where there is no /proc.
pub(crate) fn usage() -> Option<Usage> {
    let process = Process::myself().ok()?;
    let stat = process.stat().ok()?;
    let ticks = stat.utime + stat.stime;
    let limit = process.limits().ok()?.max_open_files.soft_limit;
    Some(Usage {
        memory_bytes: stat.rss_bytes().get(),
        cpu_seconds: ticks as f64 / procfs::ticks_per_second() as f64,
        descriptors: process.fd_count().ok()? as u64,
        descriptors_limit: if let LimitValue::Value(limit) = limit { limit } else { u64::MAX },
    })
}

/// How busy the process is, from two readings.
#[derive(Debug, Default)]
pub(crate) struct Busy(Option<(Instant, f64)>);

impl Busy {
    /// Cores that were kept busy since the last reading; `None` for the first one.
    pub(crate) fn since(&mut self, now: Instant, cpu_seconds: f64) -> Option<f64> {
        let (before, then) = self.0.replace((now, cpu_seconds))?;
        let span = now.saturating_duration_since(before).as_secs_f64();
        (span > 0.0).then(|| (cpu_seconds - then).max(0.0) / span)
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn the_own_process_is_read() {
        let usage = usage().expect("there is a /proc");
        assert!(usage.memory_bytes > 1 << 20 && usage.descriptors >= 3 && usage.descriptors_limit > usage.descriptors);
    }

    #[test]
    fn cores_are_processor_time_by_time() {
        let (mut busy, began) = (Busy::default(), Instant::now());
        assert_eq!(busy.since(began, 4.0), None);
        assert_eq!(busy.since(began + Duration::from_secs(2), 5.0), Some(0.5));
        assert_eq!(busy.since(began + Duration::from_secs(2), 5.0), None, "no time has passed");
    }
}
