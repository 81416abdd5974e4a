//! Starts the program on a folder and ports of its own, and ends it whatever happens.

use std::{
    collections::HashMap,
    io::{BufRead, BufReader, Read},
    net::SocketAddr,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::{Child, Command, Output, Stdio},
    sync::{Mutex, mpsc},
    time::{Duration, Instant},
};

use nix::{
    sys::signal::{Signal, kill},
    unistd::Pid,
};
use serde_json::{Value, json};
use tempfile::TempDir;

use crate::cluster;

/// How long anything may take before a test gives up.
pub(crate) const PATIENCE: Duration = Duration::from_secs(60);

/// A blueprint for tests.
pub(crate) const BLUEPRINT: &str = include_str!("../../../../demo/blueprint.toml");

/// A folder for one test, and a database. It outlives the services in it.
pub(crate) struct Place {
    folder: TempDir,
    /// The URLs of the databases of its data folders; none where services have servers of their own.
    databases: Option<Mutex<HashMap<String, String>>>,
    /// What the log has, if it is not the usual.
    log: Option<&'static str>,
}

impl Place {
    pub(crate) fn new() -> Self {
        moorfall_client::choose_cryptography();
        // PostgreSQL may run as another user, who must be able to pass through.
        let folder = tempfile::Builder::new().permissions(PermissionsExt::from_mode(0o755)).tempdir().unwrap();
        Self { folder, databases: Some(Mutex::default()), log: None }
    }

    /// One whose services each start the private server in their data folder.
    pub(crate) fn with_private_servers() -> Self {
        Self { databases: None, ..Self::new() }
    }

    /// One whose services write lines for each connection.
    pub(crate) fn with_talkative_log() -> Self {
        Self { log: Some("info,moorfall_broker=debug"), ..Self::new() }
    }

    /// Where the records of a service with these options are, as options.
    fn records(&self, more: &[&str]) -> Vec<String> {
        let Some(databases) = self.databases.as_ref().filter(|_| !more.contains(&"--database")) else {
            return Vec::new();
        };
        let data = more.iter().position(|option| *option == "--data").map_or("", |at| more[at + 1]);
        let mut databases = databases.lock().unwrap();
        let url = databases.entry(data.to_owned()).or_insert_with(cluster::database);
        vec!["--database".into(), url.clone()]
    }

    pub(crate) fn path(&self) -> &Path {
        self.folder.path()
    }

    pub(crate) fn data(&self) -> PathBuf {
        self.path().join("data")
    }

    pub(crate) fn write(&self, name: &str, text: &str) -> PathBuf {
        let path = self.path().join(name);
        std::fs::write(&path, text).unwrap();
        path
    }

    /// The program with an environment of its own.
    pub(crate) fn program(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_moorfall"));
        command.args(arguments).stdin(Stdio::null()).env("XDG_STATE_HOME", self.path().join("state"));
        command.env("XDG_CONFIG_HOME", self.path().join("config"));
        for name in ["MOORFALL_PASSWORD", "MOORFALL_DATA", "MOORFALL_REMOTE", "MOORFALL_LOG", "NO_COLOR"] {
            command.env_remove(name);
        }
        if let Some(log) = self.log {
            command.env("MOORFALL_LOG", log);
        }
        command
    }

    /// Runs the program to its end.
    pub(crate) fn run(&self, arguments: &[&str]) -> Ran {
        Ran::from(self.program(arguments).output().unwrap())
    }

    /// Starts the service on free ports.
    pub(crate) fn serve(&self, more: &[&str]) -> Service<'_> {
        let data = self.data();
        let records = self.records(more);
        let mut arguments = vec!["serve"];
        arguments.extend(records.iter().map(String::as_str));
        for (option, usual) in
            [("--mqtt", "127.0.0.1:0"), ("--http", "127.0.0.1:0"), ("--data", data.to_str().unwrap())]
        {
            if !more.contains(&option) {
                arguments.extend([option, usual]);
            }
        }
        arguments.extend(more);
        Service::start(self, &arguments)
    }

    /// Starts an open service whose records are in the database of another one, which was killed.
    pub(crate) fn serve_on_another_database(&self) -> Guest<'_> {
        self.serve_as_guest(&["--open"])
    }

    /// The same with other options.
    pub(crate) fn serve_as_guest(&self, more: &[&str]) -> Guest<'_> {
        let data = self.data();
        let usual = ["serve", "--mqtt", "127.0.0.1:0", "--http", "127.0.0.1:0", "--data", data.to_str().unwrap()];
        let host = Service::start(self, &usual);
        let socket = host.data.join("socket");
        host.crash();
        let database = database_pid(&self.data()).unwrap();
        let url = format!("postgresql:///moorfall?user=moorfall&host={}", socket.display());
        let data = self.path().join("other");
        let usual = ["--data", data.to_str().unwrap(), "--database", &url];
        Guest { service: self.serve(&[&usual[..], more].concat()), database }
    }

    /// Starts the service with the listeners of its configuration alone.
    pub(crate) fn serve_as_configured(&self, more: &[&str]) -> Service<'_> {
        let data = self.data();
        let usual = ["serve", "--http", "127.0.0.1:0", "--data", data.to_str().unwrap()];
        let records = self.records(more);
        let records: Vec<&str> = records.iter().map(String::as_str).collect();
        Service::start(self, &[&usual[..], &records, more].concat())
    }

    /// Starts the service with the catchment's blueprint.
    pub(crate) fn serve_catchment(&self) -> Service<'_> {
        let blueprint = self.write("blueprint.toml", BLUEPRINT);
        self.serve(&["--blueprint", blueprint.to_str().unwrap()])
    }
}

/// What a command did.
#[derive(Debug)]
pub(crate) struct Ran {
    pub(crate) code: Option<i32>,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl From<Output> for Ran {
    fn from(output: Output) -> Self {
        Self {
            code: output.status.code(),
            out: String::from_utf8(output.stdout).unwrap(),
            err: String::from_utf8(output.stderr).unwrap(),
        }
    }
}

impl Ran {
    /// The standard output of a command that must have succeeded.
    #[track_caller]
    pub(crate) fn ok(&self) -> &str {
        assert_eq!(self.code, Some(0), "{self:?}");
        &self.out
    }

    /// The complaint of a command that must have failed, in one clean sentence.
    #[track_caller]
    pub(crate) fn failed(&self) -> &str {
        assert_eq!(self.code, Some(1), "{self:?}");
        assert!(self.err.contains("moorfall: ") && !self.err.contains("panicked"), "{self:?}");
        &self.err
    }

    #[track_caller]
    pub(crate) fn json(&self) -> Value {
        serde_json::from_str(self.ok()).unwrap()
    }
}

/// A service whose database can be taken away; nobody starts it again.
pub(crate) struct Guest<'a> {
    pub(crate) service: Service<'a>,
    database: Pid,
}

impl Guest<'_> {
    /// Ends the database at once.
    pub(crate) fn stop_database(&self) {
        kill(self.database, Signal::SIGQUIT).unwrap();
    }
}

/// A running service.
pub(crate) struct Service<'a> {
    place: &'a Place,
    child: Child,
    pub(crate) data: PathBuf,
    pub(crate) mqtt: SocketAddr,
    pub(crate) http: String,
    /// What the service said when it was ready.
    ready: String,
    /// The rest of standard output, once the service has ended.
    rest: mpsc::Receiver<String>,
}

impl<'a> Service<'a> {
    fn start(place: &'a Place, arguments: &[&str]) -> Self {
        let log = std::fs::OpenOptions::new().create(true).append(true).open(place.path().join("log")).unwrap();
        let mut child = place.program(arguments).stdout(Stdio::piped()).stderr(log).spawn().unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap());
        let mut ready = String::new();
        lines.read_line(&mut ready).unwrap();
        let (sender, rest) = mpsc::channel();
        std::thread::spawn(move || {
            let mut text = String::new();
            let _ = lines.read_to_string(&mut text);
            sender.send(text)
        });
        assert!(ready.starts_with("ready "), "not ready: {ready:?}\n{}", log_of(place));
        let field = |name: &str| {
            let start = ready.find(&format!(" {name}=")).map_or(ready.len(), |at| at + name.len() + 2);
            ready[start..].split_whitespace().next().unwrap_or_default().to_owned()
        };
        Self {
            place,
            data: field("data").into(),
            mqtt: field("mqtt").trim_start_matches("mqtt://").parse().unwrap_or(SocketAddr::from(([0; 4], 0))),
            ready: ready.clone(),
            http: field("http"),
            child,
            rest,
        }
    }

    /// The address of a listener by its name.
    pub(crate) fn listener(&self, name: &str) -> SocketAddr {
        let start = self.ready.find(&format!(" {name}=")).unwrap() + name.len() + 2;
        let url = self.ready[start..].split_whitespace().next().unwrap();
        url.split_once("://").unwrap().1.parse().unwrap()
    }

    /// Runs a command against this service.
    pub(crate) fn run(&self, arguments: &[&str]) -> Ran {
        self.place.run(arguments)
    }

    /// Makes an identity whose password is its name backwards.
    pub(crate) fn identity(&self, name: &str, attributes: &[&str]) {
        let password: String = name.chars().rev().collect();
        let mut command = self.place.program(&["identities", "set", name, "--password"]);
        for attribute in attributes {
            command.args(["--attribute", attribute]);
        }
        Ran::from(command.env("MOORFALL_PASSWORD", password).output().unwrap()).ok();
    }

    /// Makes a person of this role; gives a token of theirs for the API.
    pub(crate) async fn person(&self, name: &str, role: &str) -> String {
        let password = format!("a-long-night-for-{name}");
        let file = self.place.write(name, &password);
        self.run(&["people", "set", name, "--role", role, "--password-file", file.to_str().unwrap()]).ok();
        let sign_in = json!({ "name": name, "password": password });
        let call = reqwest::Client::new().post(format!("{}/api/v1/console-token", self.http)).json(&sign_in);
        let answer: Value = call.send().await.unwrap().json().await.unwrap();
        answer["token"].as_str().unwrap_or_else(|| panic!("{answer}")).to_owned()
    }

    /// Starts a command that goes on, and waits until it says on standard error what is expected.
    pub(crate) fn spawn(&self, arguments: &[&str], expected: &str) -> Running {
        let mut child = self.place.program(arguments).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let mut err = BufReader::new(child.stderr.take().unwrap());
        let mut said = String::new();
        while !said.contains(expected) {
            assert_ne!(err.read_line(&mut said).unwrap(), 0, "it ended with {said:?}");
        }
        Running { child, err }
    }

    pub(crate) fn secret(&self) -> String {
        std::fs::read_to_string(self.data.join("administrator.secret")).unwrap().trim().to_owned()
    }

    pub(crate) fn log(&self) -> String {
        log_of(self.place)
    }

    /// Waits until there is an event that has this in its sentence.
    #[track_caller]
    pub(crate) fn wait_for_event(&self, part: &str) {
        wait(part, || self.run(&["events", "--json", "--limit", "1000"]).ok().contains(part).then_some(()));
    }

    pub(crate) fn status(&self) -> Value {
        self.run(&["status", "--json"]).json()
    }

    /// The status of the service with this data folder, when several run.
    pub(crate) fn status_of(&self, data: &Path) -> Value {
        self.run(&["status", "--json", "--data", data.to_str().unwrap()]).json()
    }

    /// Waits until the status is as wanted.
    #[track_caller]
    pub(crate) fn wait_for(&self, what: &str, wanted: impl Fn(&Value) -> bool) -> Value {
        wait(what, || Some(self.status()).filter(|status| wanted(status)))
    }

    pub(crate) fn pid(&self) -> Pid {
        Pid::from_raw(self.child.id().try_into().unwrap())
    }

    /// SIGTERM; gives how long the end took and what else stood on standard output.
    pub(crate) fn terminate(mut self) -> (Duration, String) {
        let began = Instant::now();
        kill(self.pid(), Signal::SIGTERM).unwrap();
        let status = self.child.wait().unwrap();
        assert!(status.success(), "{status}");
        (began.elapsed(), self.rest.recv().unwrap())
    }

    /// SIGKILL; the database is left as it is.
    pub(crate) fn crash(mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
        // The database goes on: the next start takes it over. It ends with the place at the latest.
        std::mem::forget(Leftover(database_pid(&self.data)));
        self.data = PathBuf::new();
    }
}

impl Drop for Service<'_> {
    fn drop(&mut self) {
        let _ = kill(self.pid(), Signal::SIGTERM);
        let _ = self.child.wait();
        if !self.data.as_os_str().is_empty() {
            drop(Leftover(database_pid(&self.data)));
        }
    }
}

/// A database whose service did not end it.
pub(crate) struct Leftover(pub(crate) Option<Pid>);

impl Drop for Leftover {
    fn drop(&mut self) {
        if let Some(pid) = self.0 {
            let _ = kill(pid, Signal::SIGINT);
        }
    }
}

/// The server process of a data folder, if one runs.
pub(crate) fn database_pid(data: &Path) -> Option<Pid> {
    let text = std::fs::read_to_string(data.join("database/postmaster.pid")).ok()?;
    let pid: i32 = text.lines().next()?.trim().parse().ok()?;
    std::fs::read_link(format!("/proc/{pid}/cwd")).ok()?;
    Some(Pid::from_raw(pid))
}

fn log_of(place: &Place) -> String {
    std::fs::read_to_string(place.path().join("log")).unwrap_or_default()
}

/// A command that goes on.
pub(crate) struct Running {
    child: Child,
    err: BufReader<std::process::ChildStderr>,
}

impl Running {
    /// Waits for its end.
    pub(crate) fn finish(mut self) -> Ran {
        let mut out = String::new();
        let mut err = String::new();
        self.child.stdout.take().unwrap().read_to_string(&mut out).unwrap();
        self.err.read_to_string(&mut err).unwrap();
        Ran { code: self.child.wait().unwrap().code(), out, err }
    }

    /// Ctrl-C, then its end.
    pub(crate) fn interrupt(self) -> Ran {
        kill(Pid::from_raw(self.child.id().try_into().unwrap()), Signal::SIGINT).unwrap();
        self.finish()
    }

    /// Closes its standard output, as a reader that has had enough does.
    pub(crate) fn close_output(&mut self) {
        self.child.stdout = None;
    }

    /// The end of a command whose output was closed.
    pub(crate) fn end(mut self) -> Option<i32> {
        self.child.wait().unwrap().code()
    }
}

impl Drop for Running {
    /// A test that fails leaves nothing behind.
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Looks again and again until there is something.
#[track_caller]
pub(crate) fn wait<T>(what: &str, mut look: impl FnMut() -> Option<T>) -> T {
    let began = Instant::now();
    loop {
        if let Some(found) = look() {
            return found;
        }
        assert!(began.elapsed() < PATIENCE, "waited in vain until {what}");
        std::thread::sleep(Duration::from_millis(50));
    }
}
