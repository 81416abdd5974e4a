//! A private PostgreSQL cluster in the data folder, reached by a Unix socket alone.
//!
//! PostgreSQL refuses to run as root; then it runs as the user `postgres` on a folder of its own. A cluster that is
//! still running, because the service was killed, is taken over as it is.

use std::{
    io,
    os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt},
    path::{Path, PathBuf},
    process::Stdio,
    time::Duration,
};

use nix::{
    sys::signal::{Signal, kill},
    unistd::{Gid, Pid, Uid, User, chown},
};
use sha2::{Digest, Sha256};
use tokio::{process::Command, time::sleep};

/// The name of the private cluster's database, and of the role that owns it: it makes the tables, and nothing else.
pub(crate) const PRIVATE_NAME: &str = "moorfall";

/// The role of the private cluster that the service works as: it may read and write rows, and change no tables.
pub(crate) const SERVICE_ROLE: &str = "moorfall_service";

/// The longest path of a Unix socket that the system takes, bytes.
const SOCKET_PATH: usize = 107;

/// How long a start may take; recovery after a crash is part of it.
const START: Duration = Duration::from_secs(60);

/// How long the helpers of a killed server may take to end.
const STRAGGLERS: Duration = Duration::from_secs(20);

/// How long a fast shutdown may take before the cluster is told to drop everything; it then recovers at its next
/// start.
const STOP: Duration = Duration::from_secs(3);

/// What can go wrong with the private cluster, each with its remedy.
#[derive(Debug, thiserror::Error)]
pub enum ClusterError {
    /// PostgreSQL is not installed.
    #[error(
        "PostgreSQL was not found in /usr/lib/postgresql/*/bin or in PATH. Install the package `postgresql`, or use a \
         server with --database URL."
    )]
    NotInstalled,
    /// Running as root, and there is no user to run PostgreSQL as.
    #[error(
        "PostgreSQL does not run as root, and there is no user `postgres` to run it as. Install the package \
         `postgresql`, or start Moorfall as an ordinary user."
    )]
    NoUser,
    /// The user that runs PostgreSQL can't reach the data folder.
    #[error(
        "PostgreSQL runs as the user `{user}`, who is not allowed to enter {folder}. Use another data folder with \
         --data DIR, for example below /var/lib."
    )]
    OutOfReach {
        /// The user.
        user: String,
        /// The folder in the way.
        folder: PathBuf,
    },
    /// The cluster is another user's, as whom PostgreSQL ran before.
    #[error(
        "The database in {cluster} belongs to the user {whose}, and PostgreSQL would run as {user}. Start Moorfall as \
         {whose}, or as root with --user {whose}, or change the owner: chown -R {user} {cluster}"
    )]
    OfAnother {
        /// The cluster's folder.
        cluster: PathBuf,
        /// Whose it is.
        whose: String,
        /// Who would run it.
        user: String,
    },
    /// A file or folder can't be written.
    #[error(
        "{path} can't be written: {error}. Check the path and its permissions, or use another data folder with --data \
         DIR."
    )]
    Folder {
        /// The path.
        path: PathBuf,
        /// Why.
        #[source]
        error: io::Error,
    },
    /// A program of PostgreSQL could not be run or failed.
    #[error("{program} failed: {words}")]
    Program {
        /// Which.
        program: &'static str,
        /// What it said.
        words: String,
    },
    /// The server did not get ready.
    #[error("PostgreSQL did not start: {words}. Its log is {log}.")]
    Start {
        /// What it said last.
        words: String,
        /// The log file.
        log: PathBuf,
    },
}

/// A running private cluster. It goes on when this is dropped; [`PrivateCluster::stop`] ends it.
#[derive(Debug)]
pub struct PrivateCluster {
    cluster: PathBuf,
    sockets: PathBuf,
    pid: Pid,
}

/// The user that runs PostgreSQL when the service runs as root.
struct Owner {
    name: String,
    uid: Uid,
    gid: Gid,
}

impl PrivateCluster {
    /// Starts the cluster in `data`, making it at the first time, or takes over the one that still runs there.
    pub async fn start(data: &Path) -> Result<Self, ClusterError> {
        let cluster = data.join("database");
        let programs = find_programs().ok_or(ClusterError::NotInstalled)?;
        let owner = if Uid::effective().is_root() { Some(service_user()?) } else { None };
        if let Some(owner) = &owner
            && let Some(folder) = closed_to(data, owner.uid, owner.gid)
        {
            return Err(ClusterError::OutOfReach { user: owner.name.clone(), folder });
        }
        let sockets = socket_folder(data);
        make_folder(&sockets, owner.as_ref())?;
        let users = users(owner.as_ref());
        if let Some(pid) = running(&cluster) {
            if !knows(&cluster, &users) {
                // Of an earlier version, which let others in.
                Self::end_old(data).await;
                return Box::pin(Self::start(data)).await;
            }
            tracing::info!(pid = pid.as_raw(), "using the database cluster that was still running");
            wait_ready(&cluster, pid, None, &log_path(data)).await?;
            return Ok(Self { cluster, sockets, pid });
        }
        if !cluster.join("PG_VERSION").exists() {
            make_cluster(&programs, &cluster, owner.as_ref()).await?;
        }
        check_owner(&cluster, owner.as_ref())?;
        wait_for_stragglers(&cluster, &sockets).await;
        if !knows(&cluster, &users) {
            let wrong = |error| ClusterError::Folder { path: cluster.clone(), error };
            std::fs::write(cluster.join(USERS), users).map_err(wrong)?;
            std::fs::write(cluster.join("pg_hba.conf"), "local all all peer map=service\n").map_err(wrong)?;
        }
        let pid = launch(&programs, data, &cluster, &sockets, owner.as_ref()).await?;
        Ok(Self { cluster, sockets, pid })
    }

    /// Ends the server that still runs in `data`, if one does.
    pub async fn end_old(data: &Path) {
        let cluster = data.join("database");
        if let Some(pid) = running(&cluster) {
            let old = Self { cluster, sockets: socket_folder(data), pid };
            old.stop().await;
        }
    }

    /// The folder of the server's Unix socket.
    pub(crate) fn socket_folder(&self) -> &Path {
        &self.sockets
    }

    /// Whether the server still runs.
    pub fn is_running(&self) -> bool {
        running(&self.cluster) == Some(self.pid)
    }

    /// Waits until the server has ended, however that comes.
    pub(crate) async fn ended(&self) {
        while self.is_running() {
            sleep(Duration::from_millis(20)).await;
        }
    }

    /// Ends the server and waits until it is gone.
    pub async fn stop(self) {
        self.end_server().await;
        // Empty now; one in the data folder is made again at the next start, one elsewhere is not left behind.
        let _ = std::fs::remove_dir(&self.sockets);
    }

    async fn end_server(&self) {
        for (signal, patience) in [(Signal::SIGINT, STOP), (Signal::SIGQUIT, Duration::from_secs(1))] {
            if !self.is_running() {
                return;
            }
            // The process was seen in its folder just now; a failure means that it ended by itself meanwhile.
            let _ = kill(self.pid, signal);
            let mut waited = Duration::ZERO;
            while self.is_running() && waited < patience {
                sleep(Duration::from_millis(20)).await;
                waited += Duration::from_millis(20);
            }
        }
    }
}

fn log_path(data: &Path) -> PathBuf {
    data.join("database.log")
}

/// The newest installed PostgreSQL: Debian's places first, then PATH.
fn find_programs() -> Option<PathBuf> {
    let versions = std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
    let mut versions: Vec<(u32, PathBuf)> = versions
        .filter_map(|deed| Some((deed.file_name().to_str()?.parse().ok()?, deed.path().join("bin"))))
        .filter(|(_, bin)| bin.join("postgres").exists() && bin.join("initdb").exists())
        .collect();
    versions.sort();
    versions.pop().map(|(_, bin)| bin).or_else(|| {
        let path = std::env::var_os("PATH")?;
        std::env::split_paths(&path).find(|bin| bin.join("postgres").exists() && bin.join("initdb").exists())
    })
}

fn service_user() -> Result<Owner, ClusterError> {
    let user = User::from_name("postgres").ok().flatten().ok_or(ClusterError::NoUser)?;
    Ok(Owner { name: user.name, uid: user.uid, gid: user.gid })
}

/// The first folder on the way to `folder` that such a user may not enter.
pub fn closed_to(folder: &Path, uid: Uid, gid: Gid) -> Option<PathBuf> {
    let is_closed = |folder: &&Path| {
        let Ok(about) = std::fs::metadata(folder) else { return false };
        let bit = match () {
            () if about.uid() == uid.as_raw() => 0o100,
            () if about.gid() == gid.as_raw() => 0o010,
            () => 0o001,
        };
        about.mode() & bit == 0
    };
    folder.ancestors().find(is_closed).map(Path::to_owned)
}

/// PostgreSQL runs on no folder of another user's.
fn check_owner(cluster: &Path, owner: Option<&Owner>) -> Result<(), ClusterError> {
    let about = std::fs::metadata(cluster).map_err(|error| ClusterError::Folder { path: cluster.into(), error })?;
    let (whose, user) = (Uid::from_raw(about.uid()), owner.map_or_else(Uid::effective, |owner| owner.uid));
    if whose == user {
        return Ok(());
    }
    let name = |uid| User::from_uid(uid).ok().flatten().map_or_else(|| uid.to_string(), |user| user.name);
    Err(ClusterError::OfAnother { cluster: cluster.into(), whose: name(whose), user: name(user) })
}

/// The socket stands in the data folder, or in a temporary folder when that path is too long for a socket.
fn socket_folder(data: &Path) -> PathBuf {
    let near = data.join("socket");
    if near.as_os_str().len() + "/.s.PGSQL.5432.lock".len() <= SOCKET_PATH {
        return near;
    }
    let digest = Sha256::digest(data.as_os_str().as_encoded_bytes());
    let short = hex::encode(&digest[..8]);
    std::env::temp_dir().join(format!("moorfall-{short}"))
}

/// A folder that only the server's user and root can enter. One that is there already must be a real folder of that
/// user or of this one: in a temporary folder anybody could have put something in its place.
fn make_folder(folder: &Path, owner: Option<&Owner>) -> Result<(), ClusterError> {
    let wrong = |error| ClusterError::Folder { path: folder.into(), error };
    std::fs::create_dir_all(folder).map_err(wrong)?;
    let about = std::fs::symlink_metadata(folder).map_err(wrong)?;
    let ours = [Some(Uid::effective()), owner.map(|owner| owner.uid)].contains(&Some(Uid::from_raw(about.uid())));
    if !about.is_dir() || !ours {
        return Err(wrong(io::Error::other("it exists and belongs to another user")));
    }
    std::fs::set_permissions(folder, PermissionsExt::from_mode(0o700)).map_err(wrong)?;
    if let Some(owner) = owner {
        chown(folder, Some(owner.uid), Some(owner.gid)).map_err(|error| wrong(error.into()))?;
    }
    Ok(())
}

fn command(program: &Path, owner: Option<&Owner>) -> Command {
    let mut command = Command::new(program);
    command.stdin(Stdio::null()).current_dir("/");
    // A key pressed in the terminal is for the service, which then ends the server in order.
    command.process_group(0);
    if let Some(owner) = owner {
        command.uid(owner.uid.as_raw()).gid(owner.gid.as_raw());
    }
    command
}

/// The file that says which users of this machine may take which role.
const USERS: &str = "pg_ident.conf";

/// Only this process's user and the server's own may sign in, by who they are on this machine.
fn users(owner: Option<&Owner>) -> String {
    let me = User::from_uid(Uid::effective()).ok().flatten().map_or_else(|| "root".to_owned(), |user| user.name);
    let them = owner.map_or_else(|| me.clone(), |owner| owner.name.clone());
    let roles = [PRIVATE_NAME, SERVICE_ROLE];
    let line = |user: &str, role: &str| format!("service \"{user}\" {role}\n");
    [me, them].iter().flat_map(|user| roles.map(|role| line(user, role))).collect()
}

fn knows(cluster: &Path, users: &str) -> bool {
    std::fs::read_to_string(cluster.join(USERS)).is_ok_and(|text| text == users)
}

/// Makes the cluster beside its place and moves it there when it is whole.
async fn make_cluster(programs: &Path, cluster: &Path, owner: Option<&Owner>) -> Result<(), ClusterError> {
    let fresh = cluster.with_extension("new");
    let wrong = |error| ClusterError::Folder { path: fresh.clone(), error };
    if fresh.exists() {
        std::fs::remove_dir_all(&fresh).map_err(wrong)?;
    }
    make_folder(&fresh, owner)?;
    let output = command(&programs.join("initdb"), owner)
        .arg("--pgdata")
        .arg(&fresh)
        .args(["--username", PRIVATE_NAME, "--auth", "reject", "--encoding", "UTF8", "--locale", "C"])
        .output()
        .await
        .map_err(|error| ClusterError::Program { program: "initdb", words: error.to_string() })?;
    if !output.status.success() {
        let words = String::from_utf8_lossy(&output.stderr).trim().replace('\n', " ");
        return Err(ClusterError::Program { program: "initdb", words });
    }
    std::fs::rename(&fresh, cluster).map_err(|error| ClusterError::Folder { path: cluster.into(), error })
}

async fn launch(
    programs: &Path,
    data: &Path,
    cluster: &Path,
    sockets: &Path,
    owner: Option<&Owner>,
) -> Result<Pid, ClusterError> {
    let log = log_path(data);
    let wrong = |error| ClusterError::Folder { path: log.clone(), error };
    let file = std::fs::OpenOptions::new().create(true).append(true).mode(0o600).open(&log).map_err(wrong)?;
    let before = file.metadata().map_err(wrong)?.len();
    let again = file.try_clone().map_err(wrong)?;
    let setting = |name: &str, value: &str| format!("{name}={value}");
    let mut child = command(&programs.join("postgres"), owner)
        .arg("-D")
        .arg(cluster)
        .args(["-c", "listen_addresses=", "-c", "max_connections=40", "-c", "logging_collector=off"])
        .args(["-c", &setting("unix_socket_directories", &format!("\"{}\"", sockets.display()))])
        .args(["-c", "unix_socket_permissions=0700"])
        .stdout(file)
        .stderr(again)
        .spawn()
        .map_err(|error| ClusterError::Program { program: "postgres", words: error.to_string() })?;
    let pid = Pid::from_raw(i32::try_from(child.id().unwrap_or(0)).unwrap_or(0));
    let ready = wait_ready(cluster, pid, Some((&mut child, before)), &log).await;
    match ready {
        Ok(()) => {
            // Collects the exit status when the server ends; the task ends with it.
            tokio::spawn(async move { child.wait().await });
            Ok(pid)
        }
        Err(error) => {
            // Nothing is left running. A failure means that it has ended already.
            let _ = child.kill().await;
            Err(error)
        }
    }
}

async fn wait_ready(
    cluster: &Path,
    pid: Pid,
    mut child: Option<(&mut tokio::process::Child, u64)>,
    log: &Path,
) -> Result<(), ClusterError> {
    let mut waited = Duration::ZERO;
    while waited < START {
        if let Some((child, before)) = &mut child
            && let Ok(Some(status)) = child.try_wait()
        {
            return Err(ClusterError::Start { words: last_words(log, *before, status), log: log.into() });
        }
        // Line 8 of the file is the server's state.
        let file = std::fs::read_to_string(cluster.join("postmaster.pid")).unwrap_or_default();
        let mut lines = file.lines();
        let own = lines.next().and_then(|line| line.trim().parse().ok()) == Some(pid.as_raw());
        if own && lines.nth(6).is_some_and(|state| state.trim() == "ready") {
            return Ok(());
        }
        sleep(Duration::from_millis(20)).await;
        waited += Duration::from_millis(20);
    }
    Err(ClusterError::Start { words: format!("it was not ready after {} s", START.as_secs()), log: log.into() })
}

/// The last FATAL line that the server has logged since `before`, or how it ended.
fn last_words(log: &Path, before: u64, status: std::process::ExitStatus) -> String {
    let text = std::fs::read(log).unwrap_or_default();
    let fresh = text.get(usize::try_from(before).unwrap_or(0)..).unwrap_or_default();
    let fresh = String::from_utf8_lossy(fresh);
    let line = fresh.lines().rev().find(|line| line.contains("FATAL"));
    line.and_then(|line| line.split_once("FATAL:")).map_or_else(|| status.to_string(), |(_, words)| words.trim().into())
}

/// After a server was killed its helpers end by themselves, a moment later; and as long as the dead process was not
/// collected, the next server takes it for a living one. When nobody works in the folder any more the lock files are
/// stale for sure.
async fn wait_for_stragglers(cluster: &Path, sockets: &Path) {
    let lock = cluster.join("postmaster.pid");
    let socket_lock = sockets.join(".s.PGSQL.5432.lock");
    let mut waited = Duration::ZERO;
    while (lock.exists() || socket_lock.exists()) && waited < STRAGGLERS {
        if !anybody_works_in(cluster) {
            for stale in [&lock, &socket_lock] {
                // A failure shows when the server starts.
                let _ = std::fs::remove_file(stale);
            }
            return;
        }
        sleep(Duration::from_millis(20)).await;
        waited += Duration::from_millis(20);
    }
}

fn anybody_works_in(folder: &Path) -> bool {
    let Ok(folder) = folder.canonicalize() else { return false };
    let processes = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    processes.filter_map(|process| std::fs::read_link(process.path().join("cwd")).ok()).any(|working| working == folder)
}

/// The process that serves the cluster, if there is one: it works in the cluster's folder. A process that has ended
/// and was not collected yet has no folder, and a foreign process with a recycled number has another.
fn running(cluster: &Path) -> Option<Pid> {
    let file = std::fs::read_to_string(cluster.join("postmaster.pid")).ok()?;
    let pid: i32 = file.lines().next()?.trim().parse().ok()?;
    let folder = std::fs::read_link(format!("/proc/{pid}/cwd")).ok()?;
    (folder == cluster.canonicalize().ok()?).then(|| Pid::from_raw(pid))
}
