//! Owner maps as CSV (RFC 4180).

use ipnet::IpNet;
use itinera_model::owner::{Owner, OwnerEntry};
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

const COLUMNS: [&str; 4] = ["prefix", "as_number", "owner", "contact"];

/// A line that was not taken.
#[derive(Debug, PartialEq, Eq, Serialize, ToSchema)]
pub struct RefusedLine {
    /// Its number, from 1.
    pub line: u64,
    /// What is wrong with it.
    pub reason: String,
}

/// What a file held.
#[derive(Debug, PartialEq, Eq)]
pub struct OwnerCsv {
    /// The lines taken.
    pub entries: Vec<OwnerEntry>,
    /// The lines not taken.
    pub refused: Vec<RefusedLine>,
}

/// Reads a CSV with the columns prefix, as_number, owner and contact, in any order. Lines that
/// cannot be read are refused one by one.
///
/// # Errors
/// What is wrong with the first line, in words.
pub fn read(body: &[u8]) -> Result<OwnerCsv, String> {
    let mut reader =
        csv::ReaderBuilder::new().trim(csv::Trim::All).flexible(true).from_reader(body);
    let headers = reader.headers().map_err(|error| format!("line 1: {error}"))?.clone();
    let place = |name: &str| headers.iter().position(|header| header.eq_ignore_ascii_case(name));
    let missing: Vec<&str> = COLUMNS.into_iter().filter(|name| place(name).is_none()).collect();
    if !missing.is_empty() {
        let wanted = COLUMNS.join(",");
        return Err(format!("line 1: no column {}; {wanted} expected", missing.join(", ")));
    }
    let places = COLUMNS.map(|name| place(name).unwrap_or_default());
    let mut seen: BTreeMap<IpNet, u64> = BTreeMap::new();
    let mut parsed = OwnerCsv { entries: Vec::new(), refused: Vec::new() };
    for record in reader.records() {
        let (line, entry) = match record {
            Ok(record) => {
                let line = record.position().map_or(0, csv::Position::line);
                (line, entry(&places.map(|place| record.get(place).unwrap_or_default())))
            }
            Err(error) => (error.position().map_or(0, csv::Position::line), Err(error.to_string())),
        };
        let entry = entry.and_then(|entry| match seen.insert(entry.prefix, line) {
            None => Ok(entry),
            Some(first) => Err(format!("prefix {} stands in line {first} already", entry.prefix)),
        });
        match entry {
            Ok(entry) => parsed.entries.push(entry),
            Err(reason) => parsed.refused.push(RefusedLine { line, reason }),
        }
    }
    Ok(parsed)
}

fn entry(fields: &[&str; 4]) -> Result<OwnerEntry, String> {
    let [prefix, as_number, owner, contact] = *fields;
    let net: IpNet = prefix
        .parse()
        .map_err(|_| format!("prefix: {prefix:?} is no address prefix such as 198.18.0.0/15"))?;
    let as_number = as_number
        .trim_start_matches("AS")
        .parse()
        .map_err(|_| format!("as_number: {as_number:?} is no number from 0 to 4294967295"))?;
    let printable = |name: &str, text: &str| {
        if text.chars().any(char::is_control) {
            Err(format!("{name}: holds characters that cannot be printed"))
        } else {
            Ok(text.to_owned())
        }
    };
    if owner.is_empty() {
        return Err("owner: is empty".to_owned());
    }
    let (name, contact) = (printable("owner", owner)?, printable("contact", contact)?);
    Ok(OwnerEntry { prefix: net.trunc(), owner: Owner { as_number, name, contact } })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn good_lines_are_taken_and_bad_ones_named() {
        let text = "owner,prefix,contact,as_number\n\
            Fennel Fibre,198.18.32.0/20,a@fennel.example,64497\n\
            Nobody,198.18.300.0/20,,64498\n\
            Nobody,198.18.0.0/20,,many\n\
            ,198.18.0.0/20,,64499\n\
            Again,198.18.32.7/20,,64497\n\
            Skerry Cable,2001:db8::/32,,AS65537\n";
        let parsed = read(text.as_bytes()).unwrap();
        let names: Vec<_> = parsed.entries.iter().map(|e| e.owner.name.as_str()).collect();
        assert_eq!(names, ["Fennel Fibre", "Skerry Cable"]);
        let refused: Vec<(u64, &str)> = parsed
            .refused
            .iter()
            .map(|refused| (refused.line, refused.reason.split(' ').next().unwrap()))
            .collect();
        assert_eq!(refused, [(3, "prefix:"), (4, "as_number:"), (5, "owner:"), (6, "prefix")]);
    }

    #[test]
    fn a_missing_column_and_invalid_bytes_are_errors() {
        assert!(read(b"prefix,owner\n").err().unwrap().contains("as_number, contact"));
        assert_eq!(
            read(b"prefix,as_number,owner,contact\n\xff\xfe,1,x,y\n").unwrap().refused.len(),
            1
        );
        let escape = b"prefix,as_number,owner,contact\n10.0.0.0/8,1,\"a\x1b[31m\",\n";
        assert!(read(escape).unwrap().refused[0].reason.contains("cannot be printed"));
    }
}
