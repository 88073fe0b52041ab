//! Records of worlds and of candidates in a directory: one file each, whole or not at all.

use crate::exit::{Code, Failure};
use itinera_lab::accuracy::{CandidateRecord, Job, Parts, RECORD_VERSION, WorldRecord};
use serde::{Deserialize, Serialize};
use std::fs;
use std::path::{Path, PathBuf};

/// A directory of records.
#[derive(Debug, Clone)]
pub(super) struct Keep {
    directory: PathBuf,
}

/// What a file holds.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Record {
    /// A world without what candidates did in it.
    World(WorldRecord),
    /// What a candidate did in a world.
    Candidate(CandidateRecord),
}

/// What is kept of a job, and what of it is still to be run.
#[derive(Debug)]
pub(super) struct Kept {
    /// The world with the candidates that are kept.
    pub(super) record: Option<WorldRecord>,
    /// The rest.
    pub(super) missing: Parts,
}

impl Keep {
    pub(super) fn open(directory: &Path) -> Result<Self, Failure> {
        fs::create_dir_all(directory).map_err(|error| {
            let text = format!("cannot make {}", directory.display());
            Failure::new(Code::Failed, error).context(text)
        })?;
        Ok(Self { directory: directory.to_owned() })
    }

    /// The file of a world, or of a candidate in it.
    fn file(&self, job: &Job, candidate: Option<&str>) -> PathBuf {
        let plain = |text: &str| -> String {
            let letter = |letter: char| if letter.is_ascii_alphanumeric() { letter } else { '-' };
            text.chars().map(letter).collect()
        };
        let world = format!("{}.{}.{}", plain(&job.setup.name), job.family, job.seed);
        let candidate = candidate.map(|name| format!(".{}", plain(name))).unwrap_or_default();
        self.directory.join(format!("{world}{candidate}.json"))
    }

    /// What is kept of a job as it would be made now, with these candidates.
    pub(super) fn find(&self, job: &Job, candidates: &[String]) -> Result<Kept, Failure> {
        let all = || Parts { world: true, candidates: candidates.to_vec() };
        let is_same = |record: &WorldRecord| {
            record.version == RECORD_VERSION
                && record.setup == job.setup
                && record.extent == job.extent
        };
        let file = self.file(job, None);
        let world = if file.exists() { read(&file)? } else { None };
        let Some(Record::World(mut record)) = world else {
            return Ok(Kept { record: None, missing: all() });
        };
        if !is_same(&record) {
            return Ok(Kept { record: None, missing: all() });
        }
        let mut missing = Parts { world: false, candidates: Vec::new() };
        for (name, version) in itinera_lab::accuracy::roster() {
            if !candidates.iter().any(|wanted| wanted == name) {
                continue;
            }
            let file = self.file(job, Some(name));
            let known = if file.exists() { read(&file)? } else { None };
            let is_kept = match known {
                Some(Record::Candidate(part)) if part.candidate_version == version => {
                    record.put(part)
                }
                _ => false,
            };
            if !is_kept {
                missing.candidates.push(name.to_owned());
            }
        }
        Ok(Kept { record: Some(record), missing })
    }

    /// Keeps what was run of a job.
    pub(super) fn put(
        &self,
        job: &Job,
        parts: &Parts,
        record: &WorldRecord,
    ) -> Result<(), Failure> {
        let mut world = record.clone();
        for name in &parts.candidates {
            if let Some(part) = world.take(name) {
                write(&self.file(job, Some(name)), &Record::Candidate(part))?;
            }
        }
        if parts.world { write(&self.file(job, None), &Record::World(world)) } else { Ok(()) }
    }

    /// Every world in the directory with its candidates, and how many records are of another version.
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
        let (mut worlds, mut parts, mut others) = (Vec::new(), Vec::new(), 0);
        for file in files {
            match read(&file)? {
                Some(Record::World(record)) => worlds.push(record),
                Some(Record::Candidate(part)) => parts.push(part),
                None => others += 1,
            }
        }
        let roster = itinera_lab::accuracy::roster();
        for part in parts {
            let is_of_now = roster.contains(&(part.candidate.as_str(), part.candidate_version));
            let put = is_of_now && worlds.iter_mut().any(|world| world.put(part.clone()));
            others += usize::from(!put);
        }
        Ok((worlds, others))
    }
}

fn write(file: &Path, record: &Record) -> Result<(), Failure> {
    let beside = file.with_extension("part");
    let text = serde_json::to_vec(record).map_err(|e| Failure::new(Code::Failed, e))?;
    let written = fs::write(&beside, text).and_then(|()| fs::rename(&beside, file));
    written.map_err(|error| {
        Failure::new(Code::Failed, error).context(format!("cannot write {}", file.display()))
    })
}

/// A record; nothing where it is of another version of the bench.
fn read(file: &Path) -> Result<Option<Record>, Failure> {
    let name = file.display().to_string();
    let broken = |error| {
        let text = format!("{name} is not a record of the bench; remove it, and it is made again");
        Failure::new(Code::BadFile, error).context(text)
    };
    let text = fs::read(file).map_err(|error| {
        Failure::new(Code::BadFile, error).context(format!("cannot read {name}"))
    })?;
    let value: serde_json::Value = serde_json::from_slice(&text).map_err(broken)?;
    // Before version 4 a file held a world with all candidates, and nothing around it.
    let inner = value.get("world").or_else(|| value.get("candidate")).unwrap_or(&value);
    if inner.get("version").is_some_and(|version| *version != RECORD_VERSION) {
        return Ok(None);
    }
    serde_json::from_value(value).map(Some).map_err(broken)
}
