//! The spool: batches on disk until the service has acknowledged them.
//!
//! Shape: one file per batch, `BOOT-SEQ-ROUNDS.batch`, holding the very bytes that are
//! uploaded. A file appears whole or not at all. Names sort by time, because boot ids are
//! UUIDs of version 7 and numbers have leading zeros. Beside them a file says how many rounds are
//! being gathered for the next batch, so that a run that was killed is charged with what it lost.

use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// A spool that cannot be used.
#[derive(Debug, thiserror::Error)]
#[error("spool {path:?}: cannot {doing}")]
pub struct SpoolError {
    path: PathBuf,
    doing: &'static str,
    #[source]
    source: io::Error,
}

/// Batches on disk.
#[derive(Debug)]
pub struct Spool {
    directory: PathBuf,
    max_bytes: u64,
    dropped_rounds: u64,
}

const SUFFIX: &str = "batch";
/// Directory of batches that the service refused.
const REFUSED: &str = "refused";
/// Batch and count of what is being gathered; never synced, since only the program can die then.
const GATHERING: &str = "gathering";

/// The beginning of a batch's name, whatever its rounds.
fn batch_name(boot: &str, seq: u64) -> String {
    format!("{boot}-{seq:012}-")
}

fn rounds_in(name: &Path) -> u64 {
    let stem = name.file_stem().map(|stem| stem.to_string_lossy().into_owned());
    stem.and_then(|stem| stem.rsplit('-').next()?.parse().ok()).unwrap_or(0)
}

impl Spool {
    /// Opens a spool directory, making it where there is none. Halves of files that a killed
    /// run left behind are removed, and the rounds that it had gathered and not put on disk count
    /// as dropped.
    ///
    /// # Errors
    /// [`SpoolError`] when the directory cannot be made or read.
    pub fn open(directory: &Path, max_bytes: u64) -> Result<Self, SpoolError> {
        let mut spool = Self { directory: directory.to_owned(), max_bytes, dropped_rounds: 0 };
        fs::create_dir_all(directory.join(REFUSED)).map_err(spool.failed("make it"))?;
        for entry in fs::read_dir(directory).map_err(spool.failed("read it"))?.flatten() {
            if entry.path().extension().is_some_and(|extension| extension == "part") {
                fs::remove_file(entry.path()).map_err(spool.failed("remove a half file"))?;
            }
        }
        spool.dropped_rounds = spool.lost_in_gathering()?;
        Ok(spool)
    }

    /// Notes that so many rounds have been gathered for a batch, or that none are any more.
    pub fn note_gathering(&self, boot: &str, seq: u64, rounds: usize) {
        let file = self.directory.join(GATHERING);
        // Where the disk is full the caller counts these rounds as lost.
        let _full = match rounds {
            0 => fs::remove_file(file),
            _ => fs::write(file, format!("{} {rounds}", batch_name(boot, seq))),
        };
    }

    /// Rounds that a killed run had gathered, unless their batch is there after all.
    fn lost_in_gathering(&self) -> Result<u64, SpoolError> {
        let text = fs::read_to_string(self.directory.join(GATHERING)).unwrap_or_default();
        let Some((batch, rounds)) = text.split_once(' ') else { return Ok(0) };
        let is_batch = |file: &PathBuf| {
            file.file_name().is_some_and(|name| name.to_string_lossy().starts_with(batch))
        };
        let there = self.newest_first()?.iter().any(is_batch);
        Ok(if there { 0 } else { rounds.parse().unwrap_or(0) })
    }

    fn failed(&self, doing: &'static str) -> impl Fn(io::Error) -> SpoolError {
        let path = self.directory.clone();
        move |source| SpoolError { path: path.clone(), doing, source }
    }

    /// Rounds dropped since this start, because the spool was full.
    pub const fn dropped_rounds(&self) -> u64 {
        self.dropped_rounds
    }

    /// Counts rounds that could not be put on disk.
    pub const fn count_dropped(&mut self, rounds: u64) {
        self.dropped_rounds += rounds;
    }

    /// Puts a batch on disk. When the spool is over its bound, the oldest batches are dropped
    /// and their rounds counted.
    ///
    /// # Errors
    /// [`SpoolError`] when it cannot be written; nothing is left behind then.
    pub fn put(
        &mut self,
        boot: &str,
        seq: u64,
        rounds: usize,
        octets: &[u8],
    ) -> Result<(), SpoolError> {
        let name = format!("{}{rounds}.{SUFFIX}", batch_name(boot, seq));
        let path = self.directory.join(name);
        let part = path.with_extension("part");
        let write = || -> io::Result<()> {
            let mut file = fs::File::create(&part)?;
            file.write_all(octets)?;
            file.sync_all()?;
            fs::rename(&part, &path)?;
            fs::File::open(&self.directory)?.sync_all()
        };
        if let Err(error) = write() {
            let _nothing_there = fs::remove_file(&part);
            return Err(self.failed("write to it")(error));
        }
        self.note_gathering(boot, seq, 0);
        self.keep_bound()
    }

    /// Keeps what is to be uploaded and what was refused within the bound together: refused batches
    /// go first, each kind from its oldest on.
    fn keep_bound(&mut self) -> Result<(), SpoolError> {
        let waiting = self.newest_first()?;
        let refused = self.batches_in(&self.directory.join(REFUSED))?;
        let mut total = 0;
        for file in waiting.iter().chain(&refused) {
            total += fs::metadata(file).map_or(0, |meta| meta.len());
            if total > self.max_bytes {
                fs::remove_file(file).map_err(self.failed("drop the oldest batch"))?;
                self.dropped_rounds += rounds_in(file);
            }
        }
        Ok(())
    }

    /// All batches, newest first: what is fresh is worth most after an outage.
    ///
    /// # Errors
    /// [`SpoolError`] when the directory cannot be read.
    pub fn newest_first(&self) -> Result<Vec<PathBuf>, SpoolError> {
        self.batches_in(&self.directory)
    }

    fn batches_in(&self, directory: &Path) -> Result<Vec<PathBuf>, SpoolError> {
        let entries = fs::read_dir(directory).map_err(self.failed("read it"))?;
        let paths = entries.flatten().map(|entry| entry.path());
        let mut files: Vec<PathBuf> =
            paths.filter(|path| path.extension().is_some_and(|e| e == SUFFIX)).collect();
        files.sort_unstable_by(|a, b| b.cmp(a));
        Ok(files)
    }

    /// Removes an acknowledged batch.
    ///
    /// # Errors
    /// [`SpoolError`] when it cannot be removed; it will be uploaded again then, which the
    /// service takes for the duplicate it is.
    pub fn remove(&self, file: &Path) -> Result<(), SpoolError> {
        match fs::remove_file(file) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                Err(self.failed("remove an acknowledged batch")(error))
            }
            _ => Ok(()),
        }
    }

    /// Puts aside a batch that the service will never take, for inspection, as long as
    /// there is room for it.
    ///
    /// # Errors
    /// [`SpoolError`] when it cannot be moved.
    pub fn put_aside(&mut self, file: &Path) -> Result<(), SpoolError> {
        let name = file.file_name().unwrap_or_default();
        let aside = self.directory.join(REFUSED).join(name);
        fs::rename(file, aside).map_err(self.failed("put a refused batch aside"))?;
        self.keep_bound()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn batches_come_back_newest_first_and_survive_reopening() {
        let directory = tempfile::tempdir().unwrap();
        let mut spool = Spool::open(directory.path(), 1_000).unwrap();
        for seq in [9, 10, 11] {
            spool.put("boot", seq, 2, &[0; 10]).unwrap();
        }
        fs::write(directory.path().join("boot-x.part"), b"half").unwrap();
        let spool = Spool::open(directory.path(), 1_000).unwrap();
        let names: Vec<String> = spool
            .newest_first()
            .unwrap()
            .iter()
            .map(|path| path.file_name().unwrap().to_string_lossy().into_owned())
            .collect();
        assert_eq!(
            names,
            ["boot-000000000011-2.batch", "boot-000000000010-2.batch", "boot-000000000009-2.batch"]
        );
        assert!(!directory.path().join("boot-x.part").exists());
    }

    #[test]
    fn killed_at_any_octet_a_spool_loses_one_gathering_and_counts_it() {
        let octets: Vec<u8> = (0..120).collect();
        for cut in 0..=octets.len() {
            let directory = tempfile::tempdir().unwrap();
            let mut spool = Spool::open(directory.path(), 10_000).unwrap();
            spool.put("boot", 1, 5, &octets).unwrap();
            for rounds in 1..=7 {
                spool.note_gathering("boot", 2, rounds);
            }
            let half = directory.path().join("boot-000000000002-7.part");
            fs::write(half, &octets[..cut]).unwrap();
            drop(spool);
            let spool = Spool::open(directory.path(), 10_000).unwrap();
            let files = spool.newest_first().unwrap();
            assert_eq!((files.len(), spool.dropped_rounds()), (1, 7), "cut at {cut}");
            assert_eq!(fs::read(&files[0]).unwrap(), octets, "what was on disk is whole");
        }
        // Killed between the batch's appearance and the note: nothing is lost.
        let directory = tempfile::tempdir().unwrap();
        let mut spool = Spool::open(directory.path(), 10_000).unwrap();
        spool.put("boot", 2, 7, &octets).unwrap();
        spool.note_gathering("boot", 2, 7);
        assert_eq!(Spool::open(directory.path(), 10_000).unwrap().dropped_rounds(), 0);
    }

    #[test]
    fn a_full_spool_drops_the_oldest_and_counts_its_rounds() {
        let directory = tempfile::tempdir().unwrap();
        let mut spool = Spool::open(directory.path(), 25).unwrap();
        for seq in 0..4 {
            spool.put("boot", seq, 7, &[0; 10]).unwrap();
        }
        assert_eq!(spool.newest_first().unwrap().len(), 2);
        assert_eq!(spool.dropped_rounds(), 14);
    }

    #[test]
    fn refused_batches_are_put_aside_and_not_offered_again() {
        let directory = tempfile::tempdir().unwrap();
        let mut spool = Spool::open(directory.path(), 1_000).unwrap();
        spool.put("boot", 1, 1, b"x").unwrap();
        let file = spool.newest_first().unwrap().remove(0);
        spool.put_aside(&file).unwrap();
        assert!(spool.newest_first().unwrap().is_empty());
        assert!(directory.path().join("refused").join(file.file_name().unwrap()).exists());
    }

    #[test]
    fn refused_batches_stay_within_the_bound_and_go_before_others() {
        let directory = tempfile::tempdir().unwrap();
        let mut spool = Spool::open(directory.path(), 35).unwrap();
        for seq in 0..2 {
            spool.put("boot", seq, 3, &[0; 10]).unwrap();
            let file = spool.newest_first().unwrap().remove(0);
            spool.put_aside(&file).unwrap();
        }
        for seq in 2..4 {
            spool.put("boot", seq, 3, &[0; 10]).unwrap();
        }
        let refused = spool.batches_in(&directory.path().join(REFUSED)).unwrap();
        assert_eq!((spool.newest_first().unwrap().len(), refused.len()), (2, 1));
        assert_eq!(spool.dropped_rounds(), 3);
    }
}
