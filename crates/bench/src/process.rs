//! The programs that are measured: started, watched through `/proc`, and ended.

use std::{
    io::{BufRead, BufReader},
    net::SocketAddr,
    os::unix::fs::PermissionsExt,
    path::PathBuf,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use moorfall_client::{Remote, Scheme, Trust};
use tempfile::TempDir;

use crate::{Failure, Plan, load::Door};

/// A certificate for 127.0.0.1 that is its own authority, in files.
pub(crate) struct Certificate(TempDir);

impl Certificate {
    pub(crate) fn make() -> Result<Self, Failure> {
        let folder = tempfile::Builder::new().permissions(PermissionsExt::from_mode(0o755)).tempdir()?;
        let made = rcgen::generate_simple_self_signed(["127.0.0.1".to_owned()])?;
        let certificate = Self(folder);
        std::fs::write(certificate.file(), made.cert.pem())?;
        std::fs::write(certificate.key(), made.signing_key.serialize_pem())?;
        Ok(certificate)
    }

    pub(crate) fn file(&self) -> PathBuf {
        self.0.path().join("certificate.pem")
    }

    pub(crate) fn key(&self) -> PathBuf {
        self.0.path().join("key.pem")
    }

    /// Whom its clients trust.
    pub(crate) fn trust(&self) -> Trust {
        Trust { authority: Some(self.file()), ..Trust::default() }
    }
}

/// A running program; it is ended on drop.
pub(crate) struct Program {
    child: Child,
    pub(crate) address: SocketAddr,
    /// All its listeners; none for a relay.
    listeners: Vec<(Scheme, SocketAddr)>,
    /// Where its API is; empty for the relay.
    api: String,
    /// Its data folder, which goes with it.
    folder: Option<TempDir>,
}

impl Program {
    /// A relay, as a process of its own.
    pub(crate) fn relay(command: &str, secured: Option<&Certificate>) -> Result<Self, Failure> {
        let mut program = Command::new(std::env::current_exe()?);
        program.arg(command);
        if let Some(certificate) = secured {
            program.arg("--certificate").arg(certificate.file()).arg("--key").arg(certificate.key());
        }
        let mut child = program.stdout(Stdio::piped()).spawn()?;
        let mut line = String::new();
        BufReader::new(child.stdout.take().ok_or("no output")?).read_line(&mut line)?;
        let address = line.trim().parse()?;
        Ok(Self { child, address, listeners: Vec::new(), api: String::new(), folder: None })
    }

    /// The service with an open broker and a database of its own.
    pub(crate) fn service(plan: &Plan) -> Result<Self, Failure> {
        Self::service_with(plan, "", None)
    }

    /// The same with more settings, and a blueprint.
    pub(crate) fn service_with(plan: &Plan, settings: &str, blueprint: Option<&str>) -> Result<Self, Failure> {
        // PostgreSQL may run as another user, who must be able to pass through.
        let folder = tempfile::Builder::new().permissions(PermissionsExt::from_mode(0o755)).tempdir()?;
        let limits = "[limits]\nconnections = 100000\nsessions-per-identity = 100000\nconnects-per-second = 0\nqueue-messages = 1000000\n\
                      queue-bytes = 1000000000\nin-flight = 10000\nreceive-maximum = 10000\n\
                      live-streams-per-person = 1000\nhttp-connections-per-address = 1000\n";
        let mut all = String::new();
        if let Some(blueprint) = blueprint {
            let file = folder.path().join("design.toml");
            std::fs::write(&file, blueprint)?;
            all = format!("blueprint = {file:?}\n");
        }
        std::fs::write(folder.path().join("bench.toml"), all + limits + settings)?;
        Self::serve(plan, folder, true)
    }

    /// The service with rules, its usual limits but for these lines, and a listener that lets anybody in under the rules.
    pub(crate) fn guarded(plan: &Plan, blueprint: &str, limits: &str) -> Result<Self, Failure> {
        let folder = tempfile::Builder::new().permissions(PermissionsExt::from_mode(0o755)).tempdir()?;
        let design = folder.path().join("design.toml");
        std::fs::write(&design, blueprint)?;
        let settings = format!(
            "blueprint = {design:?}\n[limits]\n{limits}\n[[listeners]]\nname = \"guarded\"\naddress = \"127.0.0.1:0\"\n\
             anonymous = true\n"
        );
        std::fs::write(folder.path().join("bench.toml"), settings)?;
        Self::serve(plan, folder, false)
    }

    /// Ends it in order and starts it again with what it has kept; gives how long the start took.
    pub(crate) fn restart(mut self, plan: &Plan) -> Result<(Self, Duration), Failure> {
        let folder = self.folder.take().ok_or("only a service has a folder")?;
        Command::new("kill").arg(self.child.id().to_string()).status()?;
        self.child.wait()?;
        let began = Instant::now();
        Ok((Self::serve(plan, folder, true)?, began.elapsed()))
    }

    fn serve(plan: &Plan, folder: TempDir, open: bool) -> Result<Self, Failure> {
        let mut child = Command::new(&plan.program)
            .args(["serve", "--http", "127.0.0.1:0"])
            .args(if open { &["--open", "--mqtt", "127.0.0.1:0"][..] } else { &[] })
            .arg("--config")
            .arg(folder.path().join("bench.toml"))
            .arg("--data")
            .arg(folder.path().join("data"))
            .env("MOORFALL_LOG", "error")
            .env("XDG_STATE_HOME", folder.path())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .map_err(|error| format!("{} can't be run: {error}; `make bench` builds it", plan.program.display()))?;
        let mut line = String::new();
        BufReader::new(child.stdout.take().ok_or("no output")?).read_line(&mut line)?;
        let urls = line.split_whitespace().filter_map(|field| field.split_once('='));
        let remotes = urls.filter_map(|(_, url)| url.parse::<Remote>().ok());
        let socket = |remote: Remote| Ok::<_, Failure>((remote.scheme, remote.address().parse()?));
        let listeners: Vec<_> = remotes.map(socket).collect::<Result<_, _>>()?;
        let plain = listeners.iter().find(|(scheme, _)| *scheme == Scheme::Mqtt);
        let address = plain.ok_or("the service did not start; run it by hand to see why")?.1;
        let api = line.split_whitespace().find_map(|field| field.strip_prefix("http="));
        let api = api.ok_or("the service does not say where its API is")?.to_owned();
        Ok(Self { child, address, listeners, api, folder: Some(folder) })
    }

    /// Where clients of this scheme come in.
    pub(crate) fn door(&self, scheme: Scheme, trust: Trust) -> Result<Door, Failure> {
        let listener = self.listeners.iter().find(|(of, _)| *of == scheme);
        let address = listener.map(|(_, address)| *address).ok_or("there is no such listener")?;
        Ok(Door { scheme, trust, ..Door::from(address) })
    }

    /// The URL of a call of its API.
    pub(crate) fn call(&self, call: &str) -> String {
        format!("{}/api/v1/{call}", self.api)
    }

    /// Where its API listens.
    pub(crate) fn api_address(&self) -> Result<SocketAddr, Failure> {
        Ok(self.api.trim_start_matches("http://").parse()?)
    }

    /// Begins to measure the peak anew (proc_pid_clear_refs(5)).
    pub(crate) fn forget_peak(&self) -> Result<(), Failure> {
        Ok(std::fs::write(format!("/proc/{}/clear_refs", self.child.id()), "5")?)
    }

    /// The most memory that was resident since, bytes.
    pub(crate) fn peak(&self) -> Result<usize, Failure> {
        self.memory_line("VmHWM:")
    }

    /// What its API wants as a bearer token.
    pub(crate) fn secret(&self) -> Result<String, Failure> {
        let folder = self.folder.as_ref().ok_or("only a service has a folder")?;
        Ok(std::fs::read_to_string(folder.path().join("data/administrator.secret"))?.trim().to_owned())
    }

    /// Where its database listens.
    pub(crate) fn socket_folder(&self) -> Option<PathBuf> {
        self.folder.as_ref().map(|folder| folder.path().join("data/socket"))
    }

    /// Processor time of all its threads so far.
    pub(crate) fn cpu(&self) -> Result<Duration, Failure> {
        let mut nanos = 0;
        for task in std::fs::read_dir(format!("/proc/{}/task", self.child.id()))? {
            // A thread may end in between; its time is then missing, which no bench here does.
            let text = std::fs::read_to_string(task?.path().join("schedstat")).unwrap_or_default();
            nanos += text.split_whitespace().next().and_then(|field| field.parse::<u64>().ok()).unwrap_or(0);
        }
        Ok(Duration::from_nanos(nanos))
    }

    /// Resident memory, bytes.
    pub(crate) fn memory(&self) -> Result<usize, Failure> {
        self.memory_line("VmRSS:")
    }

    fn memory_line(&self, name: &str) -> Result<usize, Failure> {
        let text = std::fs::read_to_string(format!("/proc/{}/status", self.child.id()))?;
        let line = text.lines().find_map(|line| line.strip_prefix(name)).ok_or("no such line")?;
        let kib: usize = line.trim().trim_end_matches("kB").trim().parse()?;
        Ok(kib * 1024)
    }
}

impl Drop for Program {
    fn drop(&mut self) {
        // In order, so that the database ends too; the relay just ends.
        if self.folder.is_some() {
            let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        } else {
            let _ = self.child.kill();
        }
        let _ = self.child.wait();
    }
}
