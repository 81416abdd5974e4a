//! How many files and connections the process may have open, and whether that is enough for the limits.

use moorfall_core::Limits;
use nix::sys::resource::{Resource, getrlimit, setrlimit};

/// Descriptors for everything that is no connection of a client: the database, files, pipes.
const OTHERS: usize = 128;

/// Raises what the process may have open to what the system lets it have; gives how many that are.
pub fn raise() -> usize {
    let Ok((soft, hard)) = getrlimit(Resource::RLIMIT_NOFILE) else { return usize::MAX };
    let now = if soft < hard && setrlimit(Resource::RLIMIT_NOFILE, hard, hard).is_ok() { hard } else { soft };
    usize::try_from(now).unwrap_or(usize::MAX)
}

fn open_files() -> usize {
    getrlimit(Resource::RLIMIT_NOFILE).map_or(usize::MAX, |(soft, _)| usize::try_from(soft).unwrap_or(usize::MAX))
}

/// Connections of HTTP that leave MQTT its descriptors: as many as the limits say, or an eighth of what there is.
pub fn http_connections(limits: &Limits) -> usize {
    http_of(limits, open_files())
}

fn http_of(limits: &Limits, open: usize) -> usize {
    if open >= limits.connections.saturating_add(limits.http_connections).saturating_add(OTHERS) {
        return limits.http_connections;
    }
    limits.http_connections.min(open.saturating_sub(OTHERS) / 8).max(8)
}

/// What a person should know when the process may have fewer files open than the limits need.
pub fn warning(limits: &Limits) -> Option<String> {
    warning_of(limits, open_files())
}

fn warning_of(limits: &Limits, open: usize) -> Option<String> {
    let wanted = limits.connections.saturating_add(limits.http_connections).saturating_add(OTHERS);
    (open < wanted).then(|| {
        format!(
            "The process can open {open} files, and needs {wanted} for `connections` = {} and `http-connections` = \
             {}. Raise its limit of open files, or lower these.",
            limits.connections, limits.http_connections
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn http_never_takes_what_mqtt_needs() {
        let limits = Limits { connections: 1_000, http_connections: 100, ..Limits::default() };
        assert_eq!((http_of(&limits, 100_000), warning_of(&limits, 100_000)), (100, None));
        assert_eq!(http_of(&limits, 528), 50);
        assert_eq!(http_of(&limits, 64), 8);
        let words = warning_of(&limits, 528).unwrap();
        assert!(words.contains("528 files") && words.contains("1228"), "{words}");
    }
}
