//! What is needed to bring notices.

use std::{
    collections::BTreeMap,
    io,
    path::{Path, PathBuf},
};

use moorfall_client::ConnectError;

/// The least length of a secret, bytes.
pub(crate) const SECRET: usize = 16;

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

/// Reads a file without the white space around.
pub(crate) fn read(path: &Path) -> Result<String, SettingsError> {
    let text = std::fs::read_to_string(path);
    text.map(|text| text.trim().to_owned()).map_err(|error| SettingsError::File { path: path.to_owned(), error })
}
