//! Brings notices to people and programs.

use std::{
    collections::BTreeMap,
    io,
    path::{Path, PathBuf},
    time::Duration,
};

use base64::{Engine, engine::general_purpose::STANDARD};
use moorfall_client::{ConnectError, Trust};
use moorfall_contract::{alerts::NoticeFacts, kinds::NoticeWay};
use tokio::time::timeout;

use crate::{hook::Hooks, mail::Mail};

/// How long sending a notice may take in all.
const LONGEST: Duration = Duration::from_secs(20);

/// The least length of a secret, bytes.
const SECRET: usize = 16;

/// By what e-mail is secured on its way to the server.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum MailSecurity {
    /// The connection begins in clear and is not used before it is secured (RFC 3207).
    #[default]
    Starttls,
    /// TLS from the first byte on (RFC 8314).
    Tls,
}

/// The server that takes e-mail.
#[derive(Clone, Debug)]
pub struct MailSettings {
    /// Its name.
    pub server: String,
    /// Its port.
    pub port: u16,
    /// How it is secured.
    pub security: MailSecurity,
    /// The name to sign in with; without one nobody signs in.
    pub user: Option<String>,
    /// A file with the password.
    pub password_file: Option<PathBuf>,
    /// Who writes, such as `Moorfall <moorfall@harrowmere.example>`.
    pub from: String,
    /// Certificates of the authorities that are trusted, PEM; without them, those that this machine trusts.
    pub authority: Option<PathBuf>,
}

/// How web hooks are called.
#[derive(Clone, Debug, Default)]
pub struct HookSettings {
    /// Files with the secrets that calls are signed with, by contact.
    pub secrets: BTreeMap<String, PathBuf>,
    /// Whether addresses of private networks may be called.
    pub private_addresses: bool,
    /// Certificates of the authorities that are trusted, PEM; without them, those that this machine trusts.
    pub authority: Option<PathBuf>,
}

/// Everything that is needed to bring notices.
#[derive(Clone, Debug, Default)]
pub struct CourierSettings {
    /// E-mail; without it letters are not sent.
    pub mail: Option<MailSettings>,
    /// Web hooks.
    pub hooks: HookSettings,
}

/// What is wrong with the settings.
#[derive(Debug, thiserror::Error)]
pub enum SettingsError {
    /// A file can't be read.
    #[error("Section `[notices]`: {path} can't be read: {error}. Check the path and its permissions.")]
    File {
        /// Which.
        path: PathBuf,
        /// Why.
        #[source]
        error: io::Error,
    },
    /// A secret is easily guessed.
    #[error("Section `[notices]`: the secret in {0} has fewer than {SECRET} bytes. Use a longer one.")]
    Short(PathBuf),
    /// The sender is not an address.
    #[error(
        "Section `[notices.mail]`: `from` is not an address of e-mail: {0}. Write for example \"Moorfall <moorfall@harrowmere.example>\"."
    )]
    From(String),
    /// A password without a name, or the other way round.
    #[error("Section `[notices.mail]`: `user` and `password-file` are needed together. Give both or none.")]
    HalfUser,
    /// Files of TLS can't be used.
    #[error("Section `[notices]`: {0}")]
    Trust(#[from] ConnectError),
    /// TLS can't be set up.
    #[error("Section `[notices]`: TLS can't be set up: {0}.")]
    Tls(String),
}

/// Why a notice was not taken.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotSent {
    /// No server for e-mail is known.
    #[error("no mail server is configured; add [notices.mail] to moorfall.toml")]
    NoMailServer,
    /// The hook has no secret.
    #[error("no secret is configured for the hook of {0}; add it to hook-secrets in [notices] of moorfall.toml")]
    NoSecret(String),
    /// The address can't be used.
    #[error("the address can't be used: {0}")]
    Address(String),
    /// It leads into a private network.
    #[error("{0} is in a private network; private-addresses = true in [notices] of moorfall.toml allows that")]
    Private(String),
    /// The name is not known.
    #[error("{0}")]
    Unresolved(String),
    /// Nobody answered in time.
    #[error("no answer within {} s", LONGEST.as_secs())]
    TimedOut,
    /// The connection or its security failed.
    #[error("the connection failed: {0}")]
    Connection(String),
    /// It was answered, and not taken. Trying again may help.
    #[error("answered {0}")]
    Answered(String),
    /// It wants no more notices.
    #[error("answered {0}: it wants no more notices")]
    Gone(String),
}

impl NotSent {
    /// Whether trying again is of no use.
    pub fn is_final(&self) -> bool {
        matches!(self, Self::Gone(_))
    }
}

/// Brings notices.
#[derive(Debug)]
pub struct Courier {
    mail: Option<Mail>,
    hooks: Hooks,
}

/// Reads a file without the white space around.
pub(crate) fn read(path: &Path) -> Result<String, SettingsError> {
    let text = std::fs::read_to_string(path);
    text.map(|text| text.trim().to_owned()).map_err(|error| SettingsError::File { path: path.to_owned(), error })
}

impl Courier {
    /// Reads all files that the settings name.
    ///
    /// # Errors
    ///
    /// A file can't be read or does not hold what it should; the sender is not an address.
    pub fn new(settings: &CourierSettings) -> Result<Self, SettingsError> {
        let CourierSettings { mail, hooks } = settings;
        let mut secrets = BTreeMap::new();
        for (contact, path) in &hooks.secrets {
            let text = read(path)?;
            // The convention writes keys in Base64 behind this mark.
            let secret = text.strip_prefix("whsec_").and_then(|text| STANDARD.decode(text).ok());
            let secret = secret.unwrap_or_else(|| text.into_bytes());
            if secret.len() < SECRET {
                return Err(SettingsError::Short(path.clone()));
            }
            secrets.insert(contact.clone(), secret);
        }
        let trust = Trust { authority: hooks.authority.clone(), ..Trust::default() };
        let hooks = Hooks::new(secrets, trust.config()?, hooks.private_addresses)?;
        Ok(Self { mail: mail.as_ref().map(Mail::new).transpose()?, hooks })
    }

    /// Sends a notice; gives what was answered.
    ///
    /// # Errors
    ///
    /// It was not taken. A way of [`NoticeWay::Topic`] is none of a courier.
    pub async fn send(
        &self,
        way: NoticeWay,
        (contact, target): (&str, &str),
        facts: &NoticeFacts,
    ) -> Result<String, NotSent> {
        let sending = async {
            match way {
                NoticeWay::Mail => self.mail.as_ref().ok_or(NotSent::NoMailServer)?.send(target, facts).await,
                NoticeWay::Hook => self.hooks.call(contact, target, facts).await,
                NoticeWay::Topic => Err(NotSent::Address(format!("{target} is a topic"))),
            }
        };
        timeout(LONGEST, sending).await.unwrap_or(Err(NotSent::TimedOut))
    }
}
