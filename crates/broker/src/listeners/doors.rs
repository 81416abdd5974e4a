//! By which names browsers may come in. Any page of the web can ask for a name that leads to 127.0.0.1, and would then be
//! of "the same origin"; so a name is answered only if it is one of loopback, an address, or one that the settings say.

use std::net::IpAddr;

use http::{HeaderMap, header};

/// Why a text is not a name of the service.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DoorError {
    /// Another scheme.
    #[error("\"{0}\" must begin with http:// or https://")]
    Scheme(String),
    /// It is none of a host.
    #[error("\"{0}\" is not a host name; write it without port and path, for example console.example")]
    Name(String),
}

/// The names.
#[derive(Clone, Debug, Default)]
pub struct Doors {
    hosts: Vec<Host>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct Host {
    /// With which scheme pages of this name come, if not with that of the listener: behind a proxy with TLS, say.
    scheme: Option<String>,
    name: String,
}

impl Doors {
    /// Reads names as they stand in the settings: `console.example`, or with a scheme `https://console.example`.
    pub fn read(texts: &[String]) -> Result<Self, DoorError> {
        let read = |text: &String| {
            let (scheme, name) = match text.split_once("://") {
                Some((scheme @ ("http" | "https"), name)) => (Some(scheme.to_owned()), name),
                Some(_) => return Err(DoorError::Scheme(text.clone())),
                None => (None, text.as_str()),
            };
            let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_');
            if name.is_empty() || !name.chars().all(fits) {
                return Err(DoorError::Name(text.clone()));
            }
            Ok(Host { scheme, name: name.to_ascii_lowercase() })
        };
        Ok(Self { hosts: texts.iter().map(read).collect::<Result<_, _>>()? })
    }

    fn named<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Host> {
        self.hosts.iter().filter(move |host| host.name.eq_ignore_ascii_case(name))
    }

    /// Whether this may stand in a request as the host.
    pub fn is_own_host(&self, host: &str) -> bool {
        let name = without_port(host);
        let address = name.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')).unwrap_or(name);
        let name = name.strip_suffix('.').unwrap_or(name).to_ascii_lowercase();
        address.parse::<IpAddr>().is_ok()
            || name == "localhost"
            || name.ends_with(".localhost")
            || self.named(&name).next().is_some()
    }

    /// Whether a page of this origin is one of the host that it asks.
    pub fn is_own_origin(&self, headers: &HeaderMap, origin: &str, is_secure: bool) -> bool {
        let host = headers.get(header::HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
        let Some((scheme, authority)) = origin.split_once("://") else { return false };
        let usual = if is_secure { "https" } else { "http" };
        let is_named = || self.named(without_port(host)).any(|known| known.scheme.as_deref() == Some(scheme));
        self.is_own_host(host) && authority.eq_ignore_ascii_case(host) && (scheme == usual || is_named())
    }
}

/// Whether a browser says that another site asks.
pub fn is_from_elsewhere(headers: &HeaderMap) -> bool {
    headers.get("sec-fetch-site").is_some_and(|site| site != "same-origin" && site != "none")
}

fn without_port(host: &str) -> &str {
    match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) && !name.ends_with(':') => name,
        _ => host,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn doors() -> Doors {
        Doors::read(&["broker.harrowmere.example".into(), "https://console.harrowmere.example".into()]).unwrap()
    }

    #[test]
    fn loopback_addresses_and_what_is_named_are_answered() {
        for (host, own) in [
            ("localhost", true),
            ("LocalHost:7070", true),
            ("console.localhost:7070", true),
            ("127.0.0.1:7070", true),
            ("[::1]:7070", true),
            ("192.0.2.7", true),
            ("broker.harrowmere.example:7070", true),
            ("BROKER.harrowmere.example", true),
            ("console.harrowmere.example", true),
            ("evil.example:7070", false),
            ("localhost.evil.example", false),
            ("127.0.0.1.evil.example", false),
            ("evilbroker.harrowmere.example", false),
            ("", false),
        ] {
            assert_eq!(doors().is_own_host(host), own, "{host}");
        }
    }

    #[test]
    fn an_origin_is_that_of_the_host_with_its_scheme() {
        for (origin, host, secure, own) in [
            ("http://127.0.0.1:7070", "127.0.0.1:7070", false, true),
            ("https://127.0.0.1:7070", "127.0.0.1:7070", false, false),
            ("https://127.0.0.1:8084", "127.0.0.1:8084", true, true),
            ("http://127.0.0.1:7071", "127.0.0.1:7070", false, false),
            ("http://evil.example:7070", "evil.example:7070", false, false),
            ("https://console.harrowmere.example", "console.harrowmere.example", false, true),
            ("https://broker.harrowmere.example", "broker.harrowmere.example", false, false),
            ("null", "127.0.0.1:7070", false, false),
        ] {
            let mut headers = HeaderMap::new();
            headers.insert(header::HOST, host.parse().unwrap());
            assert_eq!(doors().is_own_origin(&headers, origin, secure), own, "{origin} at {host}");
        }
    }

    #[test]
    fn what_is_no_name_is_told() {
        for text in ["", "a/b", "ftp://a", "http://", "a:80"] {
            assert!(Doors::read(&[text.into()]).is_err(), "{text}");
        }
    }
}
