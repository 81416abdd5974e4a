//! How a command finds the service that runs on this machine.
//!
//! A running service leaves a small file in the user's state folder that says where its data folder and addresses
//! are. The data folder's lock, not the file, says whether it still runs.

use std::{
    fs::{OpenOptions, TryLockError},
    net::SocketAddr,
    path::{Path, PathBuf},
};

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

/// Where a running service is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RunningService {
    /// Its data folder.
    pub data: PathBuf,
    /// Where MQTT clients connect by plain TCP, if they can.
    pub mqtt: Option<SocketAddr>,
    /// Where the console and the API are.
    pub http: SocketAddr,
}

/// `$XDG_STATE_HOME/moorfall/running`, by default below `~/.local/state`.
fn folder() -> Option<PathBuf> {
    let state = std::env::var_os("XDG_STATE_HOME").filter(|path| !path.is_empty()).map(PathBuf::from);
    let state = state.or_else(|| Some(PathBuf::from(std::env::var_os("HOME")?).join(".local/state")))?;
    Some(state.join("moorfall/running"))
}

fn file(data: &Path) -> Option<PathBuf> {
    let digest = Sha256::digest(data.as_os_str().as_encoded_bytes());
    let name = hex::encode(&digest[..8]);
    Some(folder()?.join(format!("{name}.json")))
}

/// The place inside the data folder, for a command that knows the folder.
fn inside(data: &Path) -> PathBuf {
    data.join("running.json")
}

/// Leaves the note in the data folder.
pub fn announce(service: &RunningService) {
    leave(&inside(&service.data), service);
}

/// Leaves the note where commands of this user look for services. To be called with the rights of whoever started it.
pub fn announce_to_commands(service: &RunningService) {
    if let Some(path) = file(&service.data) {
        leave(&path, service);
    }
}

/// Without a note commands need to be told the data folder, so a failure is only logged.
fn leave(path: &Path, service: &RunningService) {
    let text = serde_json::to_string(service).unwrap_or_default();
    let written = path.parent().map_or(Ok(()), std::fs::create_dir_all).and_then(|()| std::fs::write(path, text));
    if let Err(error) = written {
        tracing::warn!(path = %path.display(), %error, "other commands can't find this service automatically");
    }
}

/// Takes the note back.
pub fn withdraw(data: &Path) {
    for path in [Some(inside(data)), file(data)].into_iter().flatten() {
        // A note that is left over is harmless: the lock tells that nobody runs.
        let _ = std::fs::remove_file(path);
    }
}

fn read(path: &Path) -> Option<RunningService> {
    let service: RunningService = serde_json::from_str(&std::fs::read_to_string(path).ok()?).ok()?;
    is_in_use(&service.data).then_some(service)
}

/// The file with the administrator's secret, inside a data folder.
pub const SECRET: &str = "administrator.secret";

/// The file whose lock says that a service uses a data folder.
pub const LOCK: &str = "service.lock";

/// The secret of the service that keeps its data in `path`, for a program on the same machine.
pub fn read_secret(path: &Path) -> std::io::Result<String> {
    Ok(std::fs::read_to_string(path.join(SECRET))?.trim().to_owned())
}

/// Whether a service has this folder open now.
pub fn is_in_use(path: &Path) -> bool {
    let lock = OpenOptions::new().write(true).open(path.join(LOCK));
    lock.is_ok_and(|file| matches!(file.try_lock(), Err(TryLockError::WouldBlock)))
}

/// The services that run on this machine, or the one in `data`.
pub fn find_running(data: Option<&Path>) -> Vec<RunningService> {
    if let Some(data) = data {
        return read(&inside(data)).into_iter().collect();
    }
    let entries = folder().and_then(|folder| std::fs::read_dir(folder).ok()).into_iter().flatten().flatten();
    let mut services: Vec<RunningService> = entries.filter_map(|entry| read(&entry.path())).collect();
    services.sort_by(|a, b| a.data.cmp(&b.data));
    services
}
