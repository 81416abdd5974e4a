//! The service on this machine, for commands that ask it something.

use std::{
    io::Write,
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::PathBuf,
    time::Duration,
};

use clap::Args;
use moorfall_contract::{
    problem::Problem,
    running::{self, RunningService, find_running},
};
use reqwest::{Method, StatusCode};
use serde::{Serialize, de::DeserializeOwned};

use crate::output::Failure;

/// How long the service may take to respond.
///
/// A check of a design against a hundred thousand identities takes seconds.
const RESPONSE: Duration = Duration::from_secs(60);

/// Which service is meant, when several run on this machine.
#[derive(Clone, Debug, Args)]
pub(crate) struct Which {
    /// Data folder of the service, when several run on this machine
    #[arg(long, value_name = "DIR", env = "MOORFALL_DATA", global = true)]
    pub(crate) data: Option<PathBuf>,
}

/// A running service and the administrator's secret.
pub(crate) struct Local {
    pub(crate) service: RunningService,
    /// The administrator's secret, or the token of a person.
    pub(crate) secret: String,
    by_person: bool,
}

/// The token of who is signed in, kept in a file of its own for each service.
pub(crate) struct SignIn;

impl SignIn {
    fn file(service: &RunningService) -> PathBuf {
        let state = std::env::var_os("XDG_STATE_HOME").map(PathBuf::from).filter(|path| path.is_absolute());
        let home = || std::env::var_os("HOME").map_or_else(|| PathBuf::from("/"), PathBuf::from);
        let name: String =
            service.data.to_string_lossy().chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
        state.unwrap_or_else(|| home().join(".local/state")).join("moorfall/signed-in").join(name)
    }

    fn known(service: &RunningService) -> Option<String> {
        let token = std::fs::read_to_string(Self::file(service)).ok()?;
        Some(token.trim().to_owned()).filter(|token| !token.is_empty())
    }

    /// Keeps a token.
    pub(crate) fn keep(service: &RunningService, token: &str) -> Result<(), Failure> {
        let file = Self::file(service);
        let folder = file.parent().unwrap_or(&file);
        let mut folders = std::fs::DirBuilder::new();
        let made = folders.recursive(true).mode(0o700).create(folder);
        let mut options = std::fs::OpenOptions::new();
        made.and_then(|()| options.create(true).truncate(true).write(true).mode(0o600).open(&file))
            .and_then(|mut opened| opened.write_all(token.as_bytes()))
            .map_err(|error| {
                Failure(format!("{} can't be written: {error}. Check the path and its permissions.", file.display()))
            })
    }

    /// Forgets it; gives whether there was one.
    pub(crate) fn forget(service: &RunningService) -> Result<bool, Failure> {
        match std::fs::remove_file(Self::file(service)) {
            Ok(()) => Ok(true),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(Failure(error.to_string())),
        }
    }
}

impl Which {
    /// Finds the service, and how to be accepted: as the person who is signed in, or by the administrator's secret.
    pub(crate) fn find(&self) -> Result<Local, Failure> {
        let service = self.service()?;
        if let Some(token) = SignIn::known(&service) {
            return Ok(Local { service, secret: token, by_person: true });
        }
        let secret = running::read_secret(&service.data).map_err(|error| {
            let file = service.data.join(running::SECRET);
            Failure(format!(
                "The administrator's secret {} can't be read: {error}. Run the command as the user who runs the \
                 service, or use `moorfall sign-in`.",
                file.display()
            ))
        })?;
        Ok(Local { service, secret, by_person: false })
    }

    /// Finds the service, with the token of who is signed in, if anybody is.
    pub(crate) fn find_service(&self) -> Result<Local, Failure> {
        let service = self.service()?;
        let secret = SignIn::known(&service).unwrap_or_default();
        Ok(Local { service, secret, by_person: true })
    }

    fn service(&self) -> Result<RunningService, Failure> {
        let mut services = find_running(self.data.as_deref());
        let service = match (services.pop(), services.len()) {
            (Some(service), 0) => service,
            (Some(last), _) => {
                services.push(last);
                let folders: Vec<String> =
                    services.iter().map(|service| format!("\n  --data {}", service.data.display())).collect();
                return Err(Failure(format!(
                    "Several services run on this machine. Give one of them:{}",
                    folders.concat()
                )));
            }
            (None, _) => {
                let place = self.data.as_ref().map_or_else(
                    || "on this machine for this user".to_owned(),
                    |data| format!("in {}", data.display()),
                );
                return Err(Failure(format!(
                    "No Moorfall service runs {place}. Start one with `moorfall serve`, or give its data folder with \
                     --data DIR."
                )));
            }
        };
        Ok(service)
    }
}

impl Local {
    /// Asks the API and reads its answer.
    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &[&str], query: &[(&str, &str)]) -> Result<T, Failure> {
        let answer = self.send(Method::GET, path, query, None::<&()>).await?;
        Ok(answer.json().await?)
    }

    /// Asks for a file.
    pub(crate) async fn bytes(&self, path: &[&str]) -> Result<Vec<u8>, Failure> {
        let answer = self.send(Method::GET, path, &[], None::<&()>).await?;
        Ok(answer.bytes().await?.to_vec())
    }

    /// Asks for all of a list, page by page.
    pub(crate) async fn get_all<T: DeserializeOwned>(&self, path: &[&str]) -> Result<Vec<T>, Failure> {
        let mut all: Vec<T> = Vec::new();
        let mut query: Vec<(String, String)> = Vec::new();
        loop {
            let pairs: Vec<(&str, &str)> = query.iter().map(|(name, value)| (&**name, &**value)).collect();
            let answer = self.send(Method::GET, path, &pairs, None::<&()>).await?;
            let next = answer.headers().get(reqwest::header::LINK).and_then(|link| link.to_str().ok());
            let next = next.and_then(|link| link.strip_prefix("<?")?.split_once('>').map(|(next, _)| next.to_owned()));
            all.append(&mut answer.json().await?);
            let Some(next) = next else { return Ok(all) };
            let url =
                reqwest::Url::parse(&format!("http://next/?{next}")).map_err(|error| Failure(error.to_string()))?;
            query = url.query_pairs().map(|(name, value)| (name.into_owned(), value.into_owned())).collect();
        }
    }

    /// Changes something.
    pub(crate) async fn change(
        &self,
        method: Method,
        path: &[&str],
        body: Option<&impl Serialize>,
    ) -> Result<(), Failure> {
        self.send(method, path, &[], body).await.map(drop)
    }

    /// Asks something that has a body.
    pub(crate) async fn post<T: DeserializeOwned>(&self, path: &[&str], body: &impl Serialize) -> Result<T, Failure> {
        let answer = self.send(Method::POST, path, &[], Some(body)).await?;
        Ok(answer.json().await?)
    }

    /// Puts something and gives what is there now.
    pub(crate) async fn put<T: DeserializeOwned>(&self, path: &[&str], body: &impl Serialize) -> Result<T, Failure> {
        let answer = self.send(Method::PUT, path, &[], Some(body)).await?;
        Ok(answer.json().await?)
    }

    /// Signs a person in.
    pub(crate) async fn sign_in<T: DeserializeOwned>(&self, body: &impl Serialize) -> Result<T, Failure> {
        let answer = self.send_any(Method::POST, &["console-token"], &[], Some(body)).await?;
        if answer.status() == StatusCode::UNAUTHORIZED {
            return Err(Failure("The name or the password is wrong.".into()));
        }
        Ok(Self::checked(answer).await?.json().await?)
    }

    async fn send(
        &self,
        method: Method,
        path: &[&str],
        query: &[(&str, &str)],
        body: Option<&impl Serialize>,
    ) -> Result<reqwest::Response, Failure> {
        let answer = self.send_any(method, path, query, body).await?;
        if answer.status() == StatusCode::UNAUTHORIZED {
            return Err(Failure(if self.by_person {
                "Your sign-in has expired. Use `moorfall sign-in` again, or `moorfall sign-out`.".into()
            } else {
                "The service rejected the secret in its data folder. If the file has changed since the service \
                 started, restart the service."
                    .into()
            }));
        }
        Self::checked(answer).await
    }

    /// Gives the answer, or what went wrong in its words.
    pub(crate) async fn checked(answer: reqwest::Response) -> Result<reqwest::Response, Failure> {
        if answer.status().is_success() {
            return Ok(answer);
        }
        let status = answer.status();
        let problem: Option<Problem> = answer.json().await.ok();
        Err(Failure(problem.map_or_else(|| format!("The service responded {status}."), |problem| problem.detail)))
    }

    /// Asks, and gives any answer.
    pub(crate) async fn send_any(
        &self,
        method: Method,
        path: &[&str],
        query: &[(&str, &str)],
        body: Option<&impl Serialize>,
    ) -> Result<reqwest::Response, Failure> {
        let mut url = reqwest::Url::parse(&format!("http://{}/api/v1/", self.service.http))
            .map_err(|error| Failure(error.to_string()))?;
        // Segment by segment, so that a name with a slash or a question mark stays one.
        url.path_segments_mut()
            .map_err(|()| Failure("the address of the service has no path".into()))?
            .pop_if_empty()
            .extend(path);
        if !query.is_empty() {
            url.query_pairs_mut().extend_pairs(query);
        }
        let mut request = reqwest::Client::new().request(method, url).bearer_auth(&self.secret).timeout(RESPONSE);
        if let Some(body) = body {
            request = request.json(body);
        }
        request.send().await.map_err(|error| {
            Failure(format!("The service on {} does not respond: {}.", self.service.http, root_cause(&error)))
        })
    }
}

fn root_cause(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(next) = cause.source() {
        cause = next;
    }
    cause.to_string()
}
