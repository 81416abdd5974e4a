//! The service on this machine, for commands that ask it something.

use std::{path::PathBuf, time::Duration};

use clap::Args;
use moorfall_service::{DataFolder, RunningService, api_types::Problem, find_running};
use reqwest::{Method, StatusCode};
use serde::{Serialize, de::DeserializeOwned};

use crate::output::Failure;

/// How long the service may take to answer.
const PATIENCE: Duration = Duration::from_secs(10);

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
    pub(crate) secret: String,
}

impl Which {
    /// Finds the service and its secret.
    pub(crate) fn find(&self) -> Result<Local, Failure> {
        let mut services = find_running(self.data.as_deref());
        let service = match (services.pop(), services.len()) {
            (Some(service), 0) => service,
            (Some(last), _) => {
                services.push(last);
                let folders: Vec<String> =
                    services.iter().map(|service| format!("\n  --data {}", service.data.display())).collect();
                return Err(Failure(format!("several services run on this machine; say which:{}", folders.concat())));
            }
            (None, _) => {
                let place = self.data.as_ref().map_or_else(
                    || "on this machine for this user".to_owned(),
                    |data| format!("in {}", data.display()),
                );
                return Err(Failure(format!(
                    "no Moorfall service runs {place}; start one with `moorfall serve`, or name its data folder with \
                     --data DIR"
                )));
            }
        };
        let secret = DataFolder::read_secret(&service.data).map_err(|error| {
            let file = service.data.join(DataFolder::SECRET);
            Failure(format!(
                "the administrator's secret {} can't be read: {error}; run this as the user who runs the service",
                file.display()
            ))
        })?;
        Ok(Local { service, secret })
    }
}

impl Local {
    /// Asks the API and reads its answer.
    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &[&str], query: &[(&str, &str)]) -> Result<T, Failure> {
        let answer = self.send(Method::GET, path, query, None::<&()>).await?;
        Ok(answer.json().await?)
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

    async fn send(
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
            .map_err(|()| Failure("the service's address has no path".into()))?
            .pop_if_empty()
            .extend(path);
        if !query.is_empty() {
            url.query_pairs_mut().extend_pairs(query);
        }
        let mut request = reqwest::Client::new().request(method, url).bearer_auth(&self.secret).timeout(PATIENCE);
        if let Some(body) = body {
            request = request.json(body);
        }
        let answer = request.send().await.map_err(|error| {
            Failure(format!("the service on {} does not answer: {}", self.service.http, root_cause(&error)))
        })?;
        if answer.status().is_success() {
            return Ok(answer);
        }
        let status = answer.status();
        let problem: Option<Problem> = answer.json().await.ok();
        Err(Failure(match problem {
            Some(problem) if status != StatusCode::UNAUTHORIZED => problem.detail,
            Some(_) => "the service does not take the secret in its data folder; was the file changed?".into(),
            None => format!("the service answered {status}"),
        }))
    }
}

fn root_cause(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(next) = cause.source() {
        cause = next;
    }
    cause.to_string()
}
