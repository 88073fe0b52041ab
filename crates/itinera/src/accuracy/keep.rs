//! Records of worlds in a directory: one file each, whole or not at all.

use crate::exit::{Code, Failure};
use itinera_lab::accuracy::{Job, RECORD_VERSION, WorldRecord};
use std::fs;
use std::path::{Path, PathBuf};

/// A directory of records.
#[derive(Debug, Clone)]
pub(super) struct Keep {
    directory: PathBuf,
}

impl Keep {
    pub(super) fn open(directory: &Path) -> Result<Self, Failure> {
        fs::create_dir_all(directory).map_err(|error| {
            let text = format!("cannot make {}", directory.display());
            Failure::new(Code::Failed, error).context(text)
        })?;
        Ok(Self { directory: directory.to_owned() })
    }

    fn file(&self, job: &Job) -> PathBuf {
        let setup: String = job
            .setup
            .name
            .chars()
            .map(|letter| if letter.is_ascii_alphanumeric() { letter } else { '-' })
            .collect();
        self.directory.join(format!("{setup}.{}.{}.json", job.family, job.seed))
    }

    /// The record of a job, where it is kept as it would be made now.
    pub(super) fn find(&self, job: &Job) -> Result<Option<WorldRecord>, Failure> {
        let file = self.file(job);
        if !file.exists() {
            return Ok(None);
        }
        let record = read(&file)?;
        let same = record.version == RECORD_VERSION
            && record.setup == job.setup
            && record.extent == job.extent;
        Ok(same.then_some(record))
    }

    pub(super) fn put(&self, job: &Job, record: &WorldRecord) -> Result<(), Failure> {
        let file = self.file(job);
        let beside = file.with_extension("part");
        let text = serde_json::to_vec(record).map_err(|e| Failure::new(Code::Failed, e))?;
        let written = fs::write(&beside, text).and_then(|()| fs::rename(&beside, &file));
        written.map_err(|error| {
            Failure::new(Code::Failed, error).context(format!("cannot write {}", file.display()))
        })
    }

    /// Every record in the directory, and how many are of another version.
    pub(super) fn all(directory: &Path) -> Result<(Vec<WorldRecord>, usize), Failure> {
        let entries = fs::read_dir(directory).map_err(|error| {
            let text = format!("cannot read {}", directory.display());
            Failure::new(Code::BadFile, error).context(text)
        })?;
        let mut files: Vec<PathBuf> = entries
            .flatten()
            .map(|entry| entry.path())
            .filter(|file| file.extension().is_some_and(|extension| extension == "json"))
            .collect();
        files.sort();
        let mut records = Vec::new();
        for file in files {
            records.push(read(&file)?);
        }
        let all = records.len();
        records.retain(|record| record.version == RECORD_VERSION);
        let others = all - records.len();
        Ok((records, others))
    }
}

fn read(file: &Path) -> Result<WorldRecord, Failure> {
    let name = file.display().to_string();
    let text = fs::read(file).map_err(|error| {
        Failure::new(Code::BadFile, error).context(format!("cannot read {name}"))
    })?;
    serde_json::from_slice(&text).map_err(|error| {
        let text = format!("{name} is not a record of a world; remove it, and it is made again");
        Failure::new(Code::BadFile, error).context(text)
    })
}
