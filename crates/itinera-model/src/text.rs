//! Text from elsewhere.

/// Foreign text that does nothing to a terminal, nor to the direction of what stands around it:
/// control characters and direction marks (UAX #9) become visible.
pub fn plain(text: &str) -> String {
    let visible = |c: char| match c {
        '\n' | '\t' => " ".to_owned(),
        c if c.is_control() => c.escape_default().to_string(),
        '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' => {
            c.escape_unicode().to_string()
        }
        c => c.to_string(),
    };
    text.chars().map(visible).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn terminal_escapes_and_direction_marks_are_made_visible() {
        assert_eq!(plain("a\x1b[31mb\u{9b}c\nd"), "a\\u{1b}[31mb\\u{9b}c d");
        assert_eq!(plain("pay\u{202e}evil"), "pay\\u{202e}evil");
    }
}
