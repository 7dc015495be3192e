//! Mails in a folder: kept as `.eml` files, and read again at the next start.

use std::path::PathBuf;

use jiff::Timestamp;

/// A folder of mails; without one nothing is kept beyond the process.
#[derive(Debug, Default)]
pub(crate) struct Folder(Option<PathBuf>);

impl Folder {
    /// Opens a folder, and gives what lies in it in the order in which it came, each with the
    /// instant at which it was written.
    pub(crate) fn open(path: Option<PathBuf>) -> (Self, Vec<(Timestamp, Vec<u8>)>) {
        let mut mails = Vec::new();
        if let Some(path) = &path {
            let _ = std::fs::create_dir_all(path);
            let mut files: Vec<_> = std::fs::read_dir(path)
                .map(|entries| entries.flatten().map(|e| e.path()).collect())
                .unwrap_or_default();
            files.sort();
            for file in files {
                let Ok(raw) = std::fs::read(&file) else { continue };
                let written = std::fs::metadata(&file).and_then(|m| m.modified()).ok();
                let at = written.and_then(|t| Timestamp::try_from(t).ok());
                mails.push((at.unwrap_or(Timestamp::UNIX_EPOCH), raw));
            }
        }
        (Self(path), mails)
    }

    /// Keeps the `n`th mail, counted from one.
    pub(crate) fn keep(&self, n: usize, raw: &[u8]) {
        if let Some(path) = &self.0 {
            let _ = std::fs::write(path.join(format!("{n:06}.eml")), raw);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_kept_is_there_again_in_its_order() {
        let folder = tempfile::tempdir().unwrap();
        let path = Some(folder.path().join("mails"));
        let (kept, none) = Folder::open(path.clone());
        assert!(none.is_empty());
        for n in [1, 2, 10] {
            kept.keep(n, format!("mail {n}").as_bytes());
        }
        let (_, again) = Folder::open(path);
        let raws: Vec<_> =
            again.into_iter().map(|(_, raw)| String::from_utf8(raw).unwrap()).collect();
        assert_eq!(raws, ["mail 1", "mail 2", "mail 10"]);
        let (nowhere, nothing) = Folder::open(None);
        nowhere.keep(1, b"gone with the process");
        assert!(nothing.is_empty());
    }
}
