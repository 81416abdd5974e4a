//! How a command finds the service that runs on this machine.
//!
//! A running service leaves a small file in the user's state folder that says where its data folder and addresses
//! are. The data folder's lock, not the file, says whether it still runs.

use std::{
    net::SocketAddr,
    path::{Path, PathBuf},
};

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::DataFolder;
use moorfall_api::state::Addresses;

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
    let name: String = digest.iter().take(8).map(|byte| format!("{byte:02x}")).collect();
    Some(folder()?.join(format!("{name}.json")))
}

/// The place inside the data folder, for a command that knows the folder.
fn inside(data: &Path) -> PathBuf {
    data.join("running.json")
}

/// Leaves the note in the data folder.
pub(crate) fn announce(addresses: &Addresses) {
    leave(&inside(&addresses.data), addresses);
}

/// Leaves the note where commands of this user look for services. To be called with the rights of whoever started it.
pub(crate) fn announce_to_commands(addresses: &Addresses) {
    if let Some(path) = file(&addresses.data) {
        leave(&path, addresses);
    }
}

/// Without a note commands need to be told the data folder, so a failure is only logged.
fn leave(path: &Path, addresses: &Addresses) {
    let Addresses { mqtt, http, data } = addresses.clone();
    let text = serde_json::to_string(&RunningService { data, mqtt, http }).unwrap_or_default();
    let written = path.parent().map_or(Ok(()), std::fs::create_dir_all).and_then(|()| std::fs::write(path, text));
    if let Err(error) = written {
        tracing::warn!(path = %path.display(), %error, "other commands can't find this service by themselves");
    }
}

/// Takes the note back.
pub(crate) fn withdraw(data: &Path) {
    for path in [Some(inside(data)), file(data)].into_iter().flatten() {
        // A note that is left over is harmless: the lock tells that nobody runs.
        let _ = std::fs::remove_file(path);
    }
}

fn read(path: &Path) -> Option<RunningService> {
    let service: RunningService = serde_json::from_str(&std::fs::read_to_string(path).ok()?).ok()?;
    DataFolder::is_in_use(&service.data).then_some(service)
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
