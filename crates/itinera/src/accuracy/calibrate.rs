//! Fits how sure a candidate may be, and reads what was fitted.

use super::keep::Keep;
use crate::exit::{Code, Failure};
use crate::output::Output;
use itinera_lab::accuracy::{Calibration, Parts, RECORD_VERSION};
use std::path::Path;

/// Fits the confidence of a candidate; prints it as JSON, which `itinera accuracy report --calibration` reads.
pub(super) fn run(directory: &Path, candidate: &str, output: &Output) -> Result<(), Failure> {
    let all = Parts::all().candidates;
    if !all.iter().any(|name| name == candidate) {
        let text = format!("{candidate:?} is not a candidate; there are {}", all.join(", "));
        return Err(Failure::say(Code::Failed, text));
    }
    let (records, _) = Keep::all(directory)?;
    let fitted = Calibration::fit(&records, candidate).map_err(|error| {
        let text = "`itinera accuracy run --split calibrate --keep DIR` makes records to fit by";
        Failure::new(Code::Failed, error).context(text)
    })?;
    output.json(&fitted)
}

/// A calibration from a file.
pub(super) fn read(file: &Path) -> Result<Calibration, Failure> {
    let name = file.display();
    let text = std::fs::read(file).map_err(|error| {
        Failure::new(Code::BadFile, error).context(format!("cannot read {name}"))
    })?;
    let fitted: Calibration = serde_json::from_slice(&text).map_err(|error| {
        let text = format!("{name} is not a calibration; `itinera accuracy calibrate` makes one");
        Failure::new(Code::BadFile, error).context(text)
    })?;
    if fitted.version != RECORD_VERSION {
        let text = format!(
            "{name} was fitted with version {} of the bench, which has version {RECORD_VERSION}; fit it again",
            fitted.version
        );
        return Err(Failure::say(Code::BadFile, text));
    }
    Ok(fitted)
}
