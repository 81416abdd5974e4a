//! Brokers known by name, in a file of this user's own.

use std::{
    collections::BTreeMap,
    io::{ErrorKind, Write},
    os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt},
    path::{Path, PathBuf},
};

use moorfall_client::{Remote, Trust};
use serde::{Deserialize, Serialize};

use crate::output::{Failure, printable};

/// A broker that has a name.
#[derive(Clone, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct Known {
    /// Its address, with the identity.
    pub(crate) address: String,
    /// Certificates of the authorities that are trusted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) authority: Option<PathBuf>,
    /// The client's own certificate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) certificate: Option<PathBuf>,
    /// Its key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) key: Option<PathBuf>,
    /// The password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) secret: Option<String>,
}

impl std::fmt::Debug for Known {
    /// Leaves the secret out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Known").field("address", &self.address).finish_non_exhaustive()
    }
}

impl Known {
    pub(crate) fn trust(&self) -> Trust {
        Trust { authority: self.authority.clone(), certificate: self.certificate.clone(), key: self.key.clone() }
    }

    /// Its address, read.
    pub(crate) fn remote(&self) -> Result<Remote, Failure> {
        self.address.parse().map_err(|error| Failure(format!("{}: {error}", Remotes::file().display())))
    }
}

/// All brokers that have a name.
#[derive(Debug, Default)]
pub(crate) struct Remotes {
    pub(crate) known: BTreeMap<String, Known>,
}

impl Remotes {
    /// The file: `moorfall/remotes.toml` where this user's configuration is.
    pub(crate) fn file() -> PathBuf {
        let config = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from).filter(|path| path.is_absolute());
        let home = || std::env::var_os("HOME").map_or_else(|| PathBuf::from("/"), PathBuf::from);
        config.unwrap_or_else(|| home().join(".config")).join("moorfall/remotes.toml")
    }

    pub(crate) fn load() -> Result<Self, Failure> {
        Self::load_from(&Self::file())
    }

    fn load_from(file: &Path) -> Result<Self, Failure> {
        let wrong = |words: &dyn std::fmt::Display| Failure(format!("{}: {words}", file.display()));
        let text = match std::fs::read_to_string(file) {
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Self::default()),
            read => read.map_err(|error| wrong(&error))?,
        };
        let known: BTreeMap<String, Known> = toml::from_str(&text).map_err(|error| wrong(&error))?;
        let mode = std::fs::metadata(file).map_err(|error| wrong(&error))?.permissions().mode();
        if mode & 0o077 != 0 && known.values().any(|known| known.secret.is_some()) {
            let words = format!("it has secrets, and others can read it. Run `chmod 600 {}`.", file.display());
            return Err(wrong(&words));
        }
        Ok(Self { known })
    }

    /// Writes all, readable by this user alone.
    pub(crate) fn save(&self) -> Result<(), Failure> {
        self.save_to(&Self::file())
    }

    fn save_to(&self, file: &Path) -> Result<(), Failure> {
        let wrong = |error: std::io::Error| {
            Failure(format!("{} can't be written: {error}. Check the path and its permissions.", file.display()))
        };
        let text = toml::to_string(&self.known)?;
        let folder = file.parent().unwrap_or(file);
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(wrong)?;
        // Written beside and moved into place, so that nobody reads half of it.
        let beside = file.with_extension(format!("new-{}", std::process::id()));
        let mut options = std::fs::OpenOptions::new();
        let opened = options.write(true).create(true).truncate(true).mode(0o600).open(&beside);
        opened
            .and_then(|mut opened| opened.write_all(text.as_bytes()).and_then(|()| opened.sync_all()))
            .and_then(|()| std::fs::rename(&beside, file))
            .map_err(wrong)
    }

    /// The broker of a name.
    pub(crate) fn get(&self, name: &str) -> Result<&Known, Failure> {
        self.known.get(name).ok_or_else(|| {
            let names: Vec<&str> = self.known.keys().map(String::as_str).collect();
            let others = match names.as_slice() {
                [] => "No remotes are saved yet".to_owned(),
                names => format!("Saved are {}", names.join(", ")),
            };
            Failure(format!(
                "`{}` is neither a saved remote nor an address such as mqtt://host:1883. {others}. `moorfall remote \
                 set NAME ADDRESS` saves one.",
                printable(name)
            ))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn remotes_are_kept_for_this_user_alone() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("moorfall/remotes.toml");
        let mut remotes = Remotes::load_from(&file).unwrap();
        let known = Known {
            address: "mqtts://barrier@tideway:8883".into(),
            authority: Some("/etc/authority.pem".into()),
            certificate: None,
            key: None,
            secret: Some("salt".into()),
        };
        assert!(!format!("{known:?}").contains("salt"));
        remotes.known.insert("tideway".into(), known);
        remotes.save_to(&file).unwrap();
        assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
        let again = Remotes::load_from(&file).unwrap();
        assert_eq!(again.get("tideway").unwrap().secret.as_deref(), Some("salt"));
        assert!(again.get("moor").unwrap_err().0.contains("Saved are tideway"));
        std::fs::set_permissions(&file, PermissionsExt::from_mode(0o644)).unwrap();
        let words = Remotes::load_from(&file).unwrap_err().0;
        assert!(words.contains("chmod 600") && !words.contains("salt"), "{words}");
    }
}
