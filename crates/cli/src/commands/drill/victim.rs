//! A service of a drill's own, to be killed.

use std::{net::SocketAddr, path::Path, process::Stdio};

use nix::{
    sys::signal::{Signal, kill},
    unistd::Pid,
};
use tokio::{
    io::{AsyncBufReadExt, BufReader},
    process::{Child, Command},
    time::timeout,
};

use super::LONGEST;
use crate::output::Failure;

/// A service of the drill's own.
pub(super) struct Victim {
    child: Child,
    pub(super) mqtt: SocketAddr,
}

impl Victim {
    /// One with these records and this log, perhaps with a blueprint.
    pub(super) async fn start(folder: &Path, mqtt: SocketAddr, blueprint: Option<&Path>) -> Result<Self, Failure> {
        let program = std::env::current_exe().map_err(|error| Failure(error.to_string()))?;
        let log = std::fs::OpenOptions::new().create(true).append(true).open(folder.join("log"));
        let log = log.map_err(|error| Failure(error.to_string()))?;
        let mut command = Command::new(program);
        if let Some(blueprint) = blueprint {
            command.env("MOORFALL_BLUEPRINT", blueprint);
        }
        let mut child = command
            .args(["serve", "--open", "--http", "127.0.0.1:0", "--mqtt", &mqtt.to_string(), "--data"])
            .arg(folder.join("data"))
            .env("XDG_STATE_HOME", folder)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(log)
            .kill_on_drop(true)
            .spawn()
            .map_err(|error| Failure(format!("The service could not be started: {error}.")))?;
        let output = child.stdout.take().expect("it is piped");
        let mut line = String::new();
        let _ = timeout(LONGEST, BufReader::new(output).read_line(&mut line)).await;
        let address = line.split_whitespace().find_map(|field| field.strip_prefix("mqtt=mqtt://"));
        match address.and_then(|address| address.parse().ok()) {
            Some(mqtt) => Ok(Self { child, mqtt }),
            None => {
                let log = std::fs::read_to_string(folder.join("log")).unwrap_or_default();
                let last: Vec<&str> = log.lines().rev().take(5).collect();
                let last: Vec<&str> = last.into_iter().rev().collect();
                Err(Failure(format!("The service did not start. Its output:\n{}", last.join("\n"))))
            }
        }
    }

    /// SIGKILL, for the database too if asked.
    pub(super) async fn kill(mut self, folder: &Path, database: bool) {
        let server = database.then(|| database_pid(folder)).flatten();
        let _ = self.child.kill().await;
        if let Some(pid) = server {
            let _ = kill(pid, Signal::SIGKILL);
        }
    }

    /// Ends it in order.
    pub(super) async fn stop(mut self) {
        if let Some(id) = self.child.id().and_then(|id| i32::try_from(id).ok()) {
            let _ = kill(Pid::from_raw(id), Signal::SIGTERM);
        }
        let _ = timeout(LONGEST, self.child.wait()).await;
    }
}

/// The database server of the drill's service.
fn database_pid(folder: &Path) -> Option<Pid> {
    let text = std::fs::read_to_string(folder.join("data/database/postmaster.pid")).ok()?;
    let pid: i32 = text.lines().next()?.trim().parse().ok()?;
    std::fs::read_link(format!("/proc/{pid}/cwd")).ok()?;
    Some(Pid::from_raw(pid))
}
