//! Names of severities in the database, and their order.

use itinera_model::alarm::Severity;

/// Severities from the highest.
pub(crate) const FROM_WORST: [Severity; 3] = [Severity::Critical, Severity::Major, Severity::Minor];

/// The name of a severity.
pub(crate) const fn name(severity: Severity) -> &'static str {
    match severity {
        Severity::Critical => "critical",
        Severity::Major => "major",
        Severity::Minor => "minor",
    }
}

/// The severity of a name.
pub(crate) fn of(text: &str) -> Option<Severity> {
    FROM_WORST.into_iter().find(|severity| name(*severity) == text)
}

/// Names from the highest severity: `array_position` gives ranks from 1.
pub(crate) fn ranks() -> Vec<String> {
    FROM_WORST.map(|severity| name(severity).to_owned()).to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_severity_has_one_name_in_the_database_and_in_the_api() {
        for severity in FROM_WORST {
            assert_eq!(serde_json::json!(severity), name(severity));
            assert_eq!(of(name(severity)), Some(severity));
        }
        assert_eq!(of("painted"), None);
    }
}
