//! Giving up the rights of root.

use std::{
    ffi::CString,
    fs::DirBuilder,
    io,
    os::unix::fs::{DirBuilderExt, MetadataExt},
    path::Path,
};

use moorfall_contract::running::is_in_use;
use moorfall_store::PrivateCluster;
use nix::{
    fcntl::{AT_FDCWD, AtFlags},
    unistd::{Gid, Uid, User, fchownat, initgroups, setgid, setuid},
};
use walkdir::WalkDir;

use crate::data_folder::DataFolderError;

/// Why the rights of root could not be given up.
#[derive(Debug, thiserror::Error)]
pub enum RightsError {
    /// There is no user of this name.
    #[error(
        "There is no user {0} on this machine. Create it with `useradd --system {0}`, or give another with --user."
    )]
    Unknown(String),
    /// The user has the rights of root.
    #[error("The user {0} has the rights of root, and --user is there to give them up. Give another user.")]
    Root(String),
    /// The process does not run as root.
    #[error("--user {0} works only for a service that is started as root. Leave it out, or start the service as root.")]
    NotRoot(String),
    /// A service runs in the data folder already.
    #[error(transparent)]
    DataFolder(#[from] DataFolderError),
    /// The user may not enter a folder on the way to the data.
    #[error(
        "The user {user} is not allowed to enter {folder}, on the path to the data folder. Use another data folder \
         with --data DIR, for example below /var/lib."
    )]
    OutOfReach {
        /// The user.
        user: String,
        /// The folder in the way.
        folder: std::path::PathBuf,
    },
    /// The system refused.
    #[error("The service can't continue as the user {user}: {error}.")]
    System {
        /// The user.
        user: String,
        /// Why.
        #[source]
        error: io::Error,
    },
}

/// Gives the data folder, made if it is not there, to `user` and makes the whole process run as that user, for good. The private database, too,
/// then is this user's; `last` is done with the rights of root, with the folder's full path. Files of TLS keys must be readable by it when they are renewed.
pub(crate) async fn give_up(user: &str, data: &Path, last: impl FnOnce(&Path)) -> Result<(), RightsError> {
    let system = |error: io::Error| RightsError::System { user: user.into(), error };
    let known = User::from_name(user).map_err(|error| system(error.into()))?;
    let known = known.ok_or_else(|| RightsError::Unknown(user.into()))?;
    if known.uid.is_root() {
        return Err(RightsError::Root(user.into()));
    }
    if !Uid::effective().is_root() && known.uid != Uid::effective() {
        return Err(RightsError::NotRoot(user.into()));
    }
    if !data.exists() {
        DirBuilder::new().recursive(true).mode(0o711).create(data).map_err(system)?;
    }
    let data = data.canonicalize().map_err(system)?;
    if !Uid::effective().is_root() {
        // Started as that user: there is nothing to give up.
        last(&data);
        return Ok(());
    }
    if let Some(folder) = moorfall_store::closed_to(&data, known.uid, known.gid) {
        return Err(RightsError::OutOfReach { user: user.into(), folder });
    }
    // What is the user's already may hold links of the user's making: root keeps its hands off.
    if std::fs::metadata(&data).map_err(system)?.uid() != known.uid.as_raw() {
        if is_in_use(&data) {
            return Err(DataFolderError::InUse { path: data }.into());
        }
        // A server that was left running belongs to another user, and could not be ended any more.
        PrivateCluster::end_old(&data).await;
        hand_over(&data, known.uid, known.gid).map_err(system)?;
    }
    last(&data);
    let name = CString::new(user).map_err(|error| system(io::Error::other(error)))?;
    let become_user = || -> nix::Result<()> {
        initgroups(&name, known.gid)?;
        setgid(known.gid)?;
        // Of all threads; the saved user, too, so that there is no way back.
        setuid(known.uid)
    };
    become_user().map_err(|error| system(error.into()))?;
    tracing::info!(user, "root rights dropped");
    Ok(())
}

/// Gives a folder and all in it to a user. Links are given, not followed.
fn hand_over(folder: &Path, uid: Uid, gid: Gid) -> io::Result<()> {
    for entry in WalkDir::new(folder).follow_links(false) {
        fchownat(AT_FDCWD, entry?.path(), Some(uid), Some(gid), AtFlags::AT_SYMLINK_NOFOLLOW)?;
    }
    Ok(())
}

/// What a person should know when the service has the rights of root.
pub(crate) fn warning() -> Option<String> {
    Uid::effective().is_root().then(|| {
        "The service has the rights of root and does not need them. Start it with --user NAME, or as an ordinary user."
            .into()
    })
}
