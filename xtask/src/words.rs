//! The words gauge: words and turns that plain technical English avoids, in all text for readers.
//!
//! Command help, OpenAPI, console, documents and doc comments must have none.

use crate::command::say;
use anyhow::{Context, Result, bail};
use std::fs;
use std::path::{Path, PathBuf};

/// Words and turns to avoid, in lower case.
const AVOIDED: [&str; 19] = [
    "whom",
    "whoever",
    "whose",
    "somebody",
    "anew",
    "besides",
    "so long as",
    "goes on",
    "for a while",
    "what is so",
    "of its own making",
    "octet",
    "octets",
    "trouble",
    "nobody",
    "anybody",
    "both ways",
    "way back",
    "under way",
];

/// Where an avoided word is the right one: wire formats are described in `octets`.
const WIRE_FORMATS: [&str; 4] = [
    "crates/itinera-wire/",
    "crates/itinera-probe/",
    "crates/itinera-model/src/packed.rs",
    "crates/itinera-agent/src/link/simulated.rs",
];

/// Where a text with an avoided word stands.
#[derive(Debug, PartialEq, Eq)]
struct Hit {
    line: usize,
    word: &'static str,
}

/// Checks all text for readers and prints the counts.
pub(crate) fn words(sources: &[(PathBuf, String)]) -> Result<()> {
    let mut found = Vec::new();
    for (path, text) in sources {
        let shown = path.to_string_lossy();
        if shown.starts_with("console/src/") {
            found.extend(named(path, hits(text)));
        } else if !WIRE_FORMATS.iter().any(|place| shown.starts_with(place)) {
            found.extend(named(path, hits(&doc_comments(text))));
        }
    }
    for path in documents()? {
        let text = fs::read_to_string(&path).with_context(|| format!("cannot read {path:?}"))?;
        found.extend(named(&path, hits(&text)));
    }
    say(&format!("words to avoid: {}", found.len()));
    if found.is_empty() {
        return Ok(());
    }
    bail!("words to avoid, see CONTRIBUTING.md:\n{}", found.join("\n"))
}

/// Documents and generated descriptions. The changelog keeps the words of its time.
fn documents() -> Result<Vec<PathBuf>> {
    let mut documents: Vec<PathBuf> = [
        "README.md",
        "ARCHITECTURE.md",
        "CONTRIBUTING.md",
        "console/openapi.json",
        "crates/itinera/tests/it/help.txt",
    ]
    .map(PathBuf::from)
    .into();
    for entry in fs::read_dir("docs")? {
        let path = entry?.path();
        if path.extension().is_some_and(|kind| kind == "md") {
            documents.push(path);
        }
    }
    Ok(documents)
}

fn named(path: &Path, hits: Vec<Hit>) -> Vec<String> {
    let line = |hit: Hit| format!("{}:{}: {}", path.display(), hit.line, hit.word);
    hits.into_iter().map(line).collect()
}

/// Doc comments, each on its own line; other lines are empty.
fn doc_comments(text: &str) -> String {
    let comment = |line: &str| {
        let line = line.trim_start();
        if line.starts_with("///") || line.starts_with("//!") {
            line.to_owned()
        } else {
            String::new()
        }
    };
    text.lines().map(comment).collect::<Vec<_>>().join("\n")
}

/// Avoided words as whole words, outside code marks.
fn hits(text: &str) -> Vec<Hit> {
    let mut hits = Vec::new();
    for (index, line) in text.lines().enumerate() {
        let line = line.to_ascii_lowercase();
        for word in AVOIDED {
            let whole = |start: usize| {
                let inside = |c: char| c.is_alphanumeric() || c == '_' || c == '`';
                let before = line[..start].chars().next_back();
                let after = line[start + word.len()..].chars().next();
                !before.is_some_and(inside) && !after.is_some_and(inside)
            };
            let count = line.match_indices(word).filter(|(start, _)| whole(*start)).count();
            hits.extend((0..count).map(|_| Hit { line: index + 1, word }));
        }
    }
    hits
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn avoided_words_are_found_as_whole_words_only() {
        assert_eq!(
            hits("The token expires.\nPer octet; `octets`, octet_count"),
            [Hit { line: 2, word: "octet" }]
        );
        assert_eq!(hits("It goes on For a While").len(), 2);
        assert_eq!(hits("whosever"), []);
    }

    #[test]
    fn only_doc_comments_are_read_of_sources() {
        let text = "/// Whose it is.\nlet whose = 1; // whose\n    //! Anew.";
        assert_eq!(hits(&doc_comments(text)).len(), 2);
    }
}
