//! The file of a backup: a tar archive (POSIX.1-2001) compressed with zstd (RFC 8878). Its last part
//! lists length and SHA-256 of all parts before it, so a file that is cut short or altered is
//! recognised.

use super::BackupError;
use data_encoding::HEXLOWER;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::io::{self, Read, Write};

/// The last part.
const LIST: &str = "parts.json";
/// The largest part that is written or read, in bytes.
pub(super) const MAX_PART: u64 = 8 << 20;
/// The longest list of parts in bytes, enough for a database of 5 TB.
const MAX_LIST: u64 = 64 << 20;

/// One part as the list has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Part {
    name: String,
    bytes: u64,
    sha256: String,
}

impl Part {
    fn of(name: &str, content: &[u8]) -> Self {
        let sha256 = HEXLOWER.encode(&Sha256::digest(content));
        Self { name: name.to_owned(), bytes: content.len() as u64, sha256 }
    }
}

/// Writes an archive part by part.
pub(super) struct Writer<W: Write> {
    tar: tar::Builder<zstd::Encoder<'static, W>>,
    parts: Vec<Part>,
}

impl<W: Write> Writer<W> {
    pub(super) fn new(out: W) -> io::Result<Self> {
        let mut zstd = zstd::Encoder::new(out, zstd::DEFAULT_COMPRESSION_LEVEL)?;
        zstd.include_checksum(true)?;
        Ok(Self { tar: tar::Builder::new(zstd), parts: Vec::new() })
    }

    pub(super) fn add(&mut self, name: &str, content: &[u8]) -> io::Result<()> {
        self.append(name, content)?;
        self.parts.push(Part::of(name, content));
        Ok(())
    }

    fn append(&mut self, name: &str, content: &[u8]) -> io::Result<()> {
        let mut header = tar::Header::new_ustar();
        header.set_size(content.len() as u64);
        header.set_mode(0o600);
        self.tar.append_data(&mut header, name, content)
    }

    /// Adds the list and ends the archive; gives what it was written to.
    pub(super) fn finish(mut self) -> io::Result<W> {
        let list = serde_json::to_vec(&self.parts)?;
        self.append(LIST, &list)?;
        self.tar.into_inner()?.finish()
    }
}

fn damaged(reason: impl Into<String>) -> BackupError {
    BackupError::Damaged { reason: reason.into() }
}

/// Where reading failed, by the parts that were read before.
fn unreadable(parts: usize, error: &io::Error) -> BackupError {
    match parts {
        0 => damaged(format!("it is not a file that `itinera backup` wrote ({error})")),
        parts => damaged(format!("after {parts} parts it cannot be read further ({error})")),
    }
}

/// Reads an archive to its end and gives each part to `each`, in order. What `each` was given is
/// right only where this succeeds.
///
/// # Errors
/// [`BackupError::Damaged`] with the reason, and the errors of `each`.
pub(super) fn read(
    file: impl Read,
    mut each: impl FnMut(&str, &[u8]) -> Result<(), BackupError>,
) -> Result<(), BackupError> {
    let zstd = zstd::Decoder::new(file).map_err(|error| unreadable(0, &error))?;
    let mut tar = tar::Archive::new(zstd);
    let mut parts: Vec<Part> = Vec::new();
    let mut list: Option<Vec<Part>> = None;
    for entry in tar.entries().map_err(|error| unreadable(0, &error))? {
        let mut entry = entry.map_err(|error| unreadable(parts.len(), &error))?;
        if list.is_some() {
            return Err(damaged("it has more parts than its list names"));
        }
        let name = entry.path().map_err(|error| unreadable(parts.len(), &error))?;
        let name = name.to_str().ok_or_else(|| damaged("a part has no readable name"))?.to_owned();
        let is_list = name == LIST;
        if entry.size() > if is_list { MAX_LIST } else { MAX_PART } {
            return Err(damaged(format!("{name} is larger than any part of a backup")));
        }
        let mut content = Vec::new();
        entry.read_to_end(&mut content).map_err(|error| unreadable(parts.len(), &error))?;
        if is_list {
            let named = serde_json::from_slice(&content);
            list = Some(named.map_err(|_| damaged("its list of parts cannot be read"))?);
        } else {
            each(&name, &content)?;
            parts.push(Part::of(&name, &content));
        }
    }
    // The checksum of the compressed stream stands behind the archive's end.
    io::copy(&mut tar.into_inner(), &mut io::sink())
        .map_err(|error| unreadable(parts.len(), &error))?;
    let list = list.ok_or_else(|| damaged("it ends before its list of parts"))?;
    let differing = parts.iter().zip(&list).find(|(part, named)| part != named);
    match differing {
        Some((part, _)) => Err(damaged(format!("{} does not match its checksum", part.name))),
        None if parts.len() != list.len() => {
            Err(damaged(format!("it has {} parts, and its list names {}", parts.len(), list.len())))
        }
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn archive() -> Vec<u8> {
        let mut writer = Writer::new(Vec::new()).unwrap();
        writer.add("one", b"first").unwrap();
        writer.add("two/000001", &[7; 100_000]).unwrap();
        writer.finish().unwrap()
    }

    fn names(file: &[u8]) -> Result<Vec<String>, BackupError> {
        let mut names = Vec::new();
        read(file, |name, content| {
            names.push(format!("{name} {}", content.len()));
            Ok(())
        })?;
        Ok(names)
    }

    #[test]
    fn parts_come_back_in_order() {
        assert_eq!(names(&archive()).unwrap(), ["one 5", "two/000001 100000"]);
    }

    #[test]
    fn a_file_that_is_cut_short_anywhere_is_damaged() {
        let whole = archive();
        for length in 0..whole.len() {
            let read = names(&whole[..length]);
            assert!(matches!(read, Err(BackupError::Damaged { .. })), "{length}: {read:?}");
        }
    }

    #[test]
    fn a_file_with_one_altered_byte_is_damaged() {
        let whole = archive();
        for at in 0..whole.len() {
            let mut altered = whole.clone();
            altered[at] ^= 0x10;
            let read = names(&altered);
            let is_damaged = matches!(read, Err(BackupError::Damaged { .. }));
            // Some bits of the compressed form mean nothing: the content is the same.
            let is_same = read.is_ok_and(|read| read == ["one 5", "two/000001 100000"]);
            assert!(is_damaged || is_same, "byte {at}");
        }
    }

    #[test]
    fn a_part_that_was_replaced_does_not_match_the_list() {
        let mut writer = Writer::new(Vec::new()).unwrap();
        writer.append("one", b"other").unwrap();
        writer.parts.push(Part::of("one", b"first"));
        let read = names(&writer.finish().unwrap());
        assert!(matches!(read, Err(BackupError::Damaged { reason }) if reason.starts_with("one ")));
    }
}
