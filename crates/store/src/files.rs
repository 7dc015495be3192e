//! The rights of files.

use std::path::Path;

/// Lets only its owner read a file.
pub fn keep_to_oneself(file: &Path) {
    #[cfg(unix)]
    set_mode(file, 0o600);
}

/// Sets the rights of a file or folder; one that belongs to somebody else keeps its own.
#[cfg(unix)]
pub(crate) fn set_mode(path: &Path, mode: u32) {
    use std::os::unix::fs::PermissionsExt;
    // A folder that belongs to somebody else keeps its rights; that is said, not fatal.
    if let Err(error) = std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)) {
        tracing::warn!(%error, path = %path.display(), "the rights of a file could not be set");
    }
}
