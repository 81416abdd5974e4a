//! One PostgreSQL for all tests, with a database for each place. It ends with the tests, and what it kept goes at the next
//! start. Nothing that it keeps outlives a crash, so tests of durability have servers of their own.

use std::{
    os::unix::fs::{DirBuilderExt, chown},
    path::{Path, PathBuf},
    process::{Command, Stdio},
    sync::{
        OnceLock,
        atomic::{AtomicU32, Ordering},
    },
};

use nix::unistd::{Uid, User};

use crate::harness::wait;

/// Folders of these servers, each with the number of the process whose tests it serves.
const FOLDERS: &str = "moorfall-tests-";

/// The newest PostgreSQL of Debian's packages.
fn programs() -> PathBuf {
    let versions = std::fs::read_dir("/usr/lib/postgresql").unwrap().flatten();
    let newest = versions.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok()).max().unwrap();
    PathBuf::from(format!("/usr/lib/postgresql/{newest}/bin"))
}

/// As the user that PostgreSQL runs as: not root.
fn as_owner(program: &str) -> Command {
    // It ends when the thread that started it does.
    let mut command = Command::new("setpriv");
    command.args(["--pdeathsig", "INT"]);
    if Uid::effective().is_root() {
        command.args(["--reuid", "postgres", "--regid", "postgres", "--clear-groups"]);
    }
    command.arg(programs().join(program)).stdin(Stdio::null()).stdout(Stdio::null()).current_dir("/");
    command
}

/// What earlier tests left, whose process is gone.
fn tidy() {
    for entry in std::fs::read_dir(std::env::temp_dir()).unwrap().flatten() {
        let name = entry.file_name();
        let of = name.to_str().and_then(|name| name.strip_prefix(FOLDERS)?.parse::<u32>().ok());
        if of.is_some_and(|pid| !Path::new(&format!("/proc/{pid}")).exists()) {
            let _ = std::fs::remove_dir_all(entry.path());
        }
    }
}

fn start() -> PathBuf {
    tidy();
    let folder = std::env::temp_dir().join(format!("{FOLDERS}{}", std::process::id()));
    std::fs::DirBuilder::new().mode(0o700).create(&folder).unwrap();
    if let Some(owner) = User::from_name("postgres").unwrap().filter(|_| Uid::effective().is_root()) {
        chown(&folder, Some(owner.uid.as_raw()), Some(owner.gid.as_raw())).unwrap();
    }
    let data = folder.join("data");
    let options = ["--username", "moorfall", "--auth", "trust", "--encoding", "UTF8", "--locale", "C", "--no-sync"];
    assert!(as_owner("initdb").arg("--pgdata").arg(&data).args(options).status().unwrap().success());
    let place = folder.clone();
    // A thread of its own, which lives as long as the process.
    std::thread::spawn(move || {
        let mut server = as_owner("postgres");
        server.arg("-D").arg(place.join("data")).args(["-c", "listen_addresses=", "-c", "max_connections=300"]);
        server.arg("-c").arg(format!("unix_socket_directories={}", place.display()));
        server.args(["-c", "fsync=off", "-c", "full_page_writes=off", "-c", "synchronous_commit=off"]);
        let log = std::fs::File::create(std::env::temp_dir().join(format!("{FOLDERS}log"))).unwrap();
        let _ = server.stderr(log).status();
    });
    wait("PostgreSQL is ready", || {
        let file = std::fs::read_to_string(data.join("postmaster.pid")).unwrap_or_default();
        file.lines().nth(7).is_some_and(|state| state.trim() == "ready").then_some(())
    });
    folder
}

/// The URL of a new database.
pub(crate) fn database() -> String {
    static FOLDER: OnceLock<PathBuf> = OnceLock::new();
    static NUMBER: AtomicU32 = AtomicU32::new(0);
    let folder = FOLDER.get_or_init(start);
    let name = format!("place_{}", NUMBER.fetch_add(1, Ordering::Relaxed));
    let made = as_owner("createdb").arg("-h").arg(folder).args(["-U", "moorfall", &name]).status().unwrap();
    assert!(made.success(), "{name}");
    format!("postgresql:///{name}?user=moorfall&host={}", folder.display())
}
