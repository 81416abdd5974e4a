//! The folder with everything that one service keeps.

use std::{
    fs::{DirBuilder, File, OpenOptions, TryLockError},
    io::{self, Read, Write},
    os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt},
    path::{Path, PathBuf},
};

use moorfall_broker::random::random_text;
use moorfall_contract::running::{LOCK, SECRET};

/// What can be wrong with the data folder, each with its remedy.
#[derive(Debug, thiserror::Error)]
pub enum DataFolderError {
    /// It can't be made or written.
    #[error("The data folder {path} can't be used: {error}. Check its permissions, or use another with --data DIR.")]
    Write {
        /// The file or folder.
        path: PathBuf,
        /// Why.
        #[source]
        error: io::Error,
    },
    /// Another service uses it.
    #[error("Another Moorfall service uses the data folder {path}. Stop it, or use another folder with --data DIR.")]
    InUse {
        /// The folder.
        path: PathBuf,
    },
    /// The administrator's secret is not what this program writes.
    #[error("{path} has no usable secret. Remove the file and start again to create a new one.")]
    Secret {
        /// The file.
        path: PathBuf,
    },
}

/// An opened data folder. As long as this lives, no other service can open the folder.
#[derive(Debug)]
pub struct DataFolder {
    path: PathBuf,
    secret: String,
    _lock: File,
}

impl DataFolder {
    /// Opens the folder; makes it, and the administrator's secret, at the first time.
    pub fn open(path: &Path) -> Result<Self, DataFolderError> {
        let wrong = |path: &Path| {
            let path = path.to_owned();
            move |error| DataFolderError::Write { path, error }
        };
        if !path.exists() {
            // Others may pass through, which the database's own user must; what stands inside is closed to them.
            DirBuilder::new().recursive(true).mode(0o711).create(path).map_err(wrong(path))?;
        }
        let path = path.canonicalize().map_err(wrong(path))?;
        let lock_path = path.join(LOCK);
        let lock = OpenOptions::new()
            .create(true)
            .truncate(false)
            .write(true)
            .mode(0o600)
            .open(&lock_path)
            .map_err(wrong(&lock_path))?;
        match lock.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => return Err(DataFolderError::InUse { path }),
            Err(TryLockError::Error(error)) => return Err(DataFolderError::Write { path: lock_path, error }),
        }
        let secret = read_or_make_secret(&path.join(SECRET))?;
        Ok(Self { path, secret, _lock: lock })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The administrator's secret.
    pub(crate) fn secret(&self) -> &str {
        &self.secret
    }
}

fn read_or_make_secret(path: &Path) -> Result<String, DataFolderError> {
    let wrong = |error| DataFolderError::Write { path: path.to_owned(), error };
    match OpenOptions::new().create_new(true).write(true).mode(0o600).open(path) {
        Ok(mut file) => {
            let secret = random_text(26);
            file.write_all(format!("{secret}\n").as_bytes()).and_then(|()| file.sync_all()).map_err(wrong)?;
            Ok(secret)
        }
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
            let mut text = String::new();
            File::open(path).and_then(|mut file| file.read_to_string(&mut text)).map_err(wrong)?;
            std::fs::set_permissions(path, PermissionsExt::from_mode(0o600)).map_err(wrong)?;
            let secret = text.trim();
            if secret.len() < 16 {
                return Err(DataFolderError::Secret { path: path.to_owned() });
            }
            Ok(secret.to_owned())
        }
        Err(error) => Err(wrong(error)),
    }
}

#[cfg(test)]
mod tests {
    use moorfall_contract::running::{is_in_use, read_secret};

    use super::*;

    fn mode(path: &Path) -> u32 {
        std::fs::metadata(path).unwrap().permissions().mode() & 0o777
    }

    #[test]
    fn the_secret_is_made_once_and_is_the_owner_s_alone() {
        let place = tempfile::tempdir().unwrap();
        let path = place.path().join("new/data");
        let first = DataFolder::open(&path).unwrap();
        let secret = first.secret().to_owned();
        assert_eq!((secret.len(), mode(&path.join(SECRET)), mode(&path)), (26, 0o600, 0o711));
        drop(first);
        // Rights that somebody widened are narrowed again.
        std::fs::set_permissions(path.join(SECRET), PermissionsExt::from_mode(0o644)).unwrap();
        assert_eq!(DataFolder::open(&path).unwrap().secret(), secret);
        assert_eq!(mode(&path.join(SECRET)), 0o600);
        assert_eq!(read_secret(&path).unwrap(), secret);
    }

    #[test]
    fn a_folder_is_in_use_as_long_as_it_is_open() {
        let place = tempfile::tempdir().unwrap();
        assert!(!is_in_use(place.path()));
        let open = DataFolder::open(place.path()).unwrap();
        assert!(is_in_use(place.path()));
        assert!(matches!(DataFolder::open(place.path()), Err(DataFolderError::InUse { .. })));
        drop(open);
        assert!(!is_in_use(place.path()));
    }

    #[test]
    fn a_damaged_secret_is_said() {
        let place = tempfile::tempdir().unwrap();
        std::fs::write(place.path().join(SECRET), "short\n").unwrap();
        let error = DataFolder::open(place.path()).unwrap_err().to_string();
        assert!(error.contains("Remove the file and start again"), "{error}");
    }
}
