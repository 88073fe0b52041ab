//! Files that only this account may read.

use std::fs::File;
use std::io::{self, Write as _};
use std::path::Path;
use tempfile::NamedTempFile;

/// Writes or replaces a file with mode 0600. After a crash the file is the old one or the new one,
/// never a part.
///
/// # Errors
/// What the operating system says.
pub fn write(path: &Path, content: impl AsRef<[u8]>) -> io::Result<()> {
    let directory = path.parent().unwrap_or_else(|| Path::new("."));
    let mut draft = NamedTempFile::new_in(directory)?;
    draft.write_all(content.as_ref())?;
    draft.as_file().sync_all()?;
    draft.persist(path)?;
    File::open(directory)?.sync_all()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt as _;

    #[test]
    fn a_secret_is_replaced_whole_and_only_its_account_may_read_it() {
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().join("secret");
        for text in ["a long first secret", "short"] {
            write(&path, text).unwrap();
            assert_eq!(std::fs::read_to_string(&path).unwrap(), text);
        }
        assert_eq!(path.metadata().unwrap().permissions().mode() & 0o777, 0o600);
        assert_eq!(std::fs::read_dir(directory.path()).unwrap().count(), 1, "no draft is left");
    }
}
