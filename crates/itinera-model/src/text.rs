//! Text from elsewhere: kept as it came, written so that it can be recorded, shown so that it does
//! nothing.

use std::borrow::Cow;

/// Foreign bytes as text, reversibly: an byte that is not UTF-8 (RFC 3629), and NUL, becomes `\x`
/// and two hexadecimal digits. A backslash before an `x` becomes `\x5c`, so that
/// [`to_octets`] gives back what came.
///
/// NUL is valid UTF-8, but databases, terminals and C programs end text there.
pub fn from_octets(octets: &[u8]) -> String {
    let mut text = String::with_capacity(octets.len());
    for chunk in octets.utf8_chunks() {
        let mut characters = chunk.valid().chars().peekable();
        while let Some(character) = characters.next() {
            match character {
                '\0' => text.push_str("\\x00"),
                '\\' if characters.peek() == Some(&'x') => text.push_str("\\x5c"),
                other => text.push(other),
            }
        }
        for octet in chunk.invalid() {
            text.push_str(&format!("\\x{octet:02x}"));
        }
    }
    text
}

/// The bytes that [`from_octets`] wrote as this text.
pub fn to_octets(text: &str) -> Vec<u8> {
    let mut octets = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let [first, after @ ..] = rest {
        rest = match after {
            [b'x', high, low, after @ ..]
                if *first == b'\\' && high.is_ascii_hexdigit() && low.is_ascii_hexdigit() =>
            {
                let digit = |octet: &u8| char::from(*octet).to_digit(16).unwrap_or_default();
                octets.push(u8::try_from(digit(high) << 4 | digit(low)).unwrap_or_default());
                after
            }
            _ => {
                octets.push(*first);
                after
            }
        };
    }
    octets
}

/// Text without NUL, which PostgreSQL takes neither as `text` nor in `jsonb`: text with one is
/// written as [`from_octets`] writes it.
pub fn recordable(text: &str) -> Cow<'_, str> {
    match text.contains('\0') {
        true => Cow::Owned(from_octets(text.as_bytes())),
        false => Cow::Borrowed(text),
    }
}

/// True for characters that change the direction of text, or end a line, where a reader does not
/// see them (UAX #9, UAX #14).
const fn is_hidden(character: char) -> bool {
    matches!(
        character,
        '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}'
    )
}

/// Foreign text that does nothing to a terminal, nor to the direction of what stands around it:
/// control characters and direction marks (UAX #9) become visible, line ends and tabs become
/// spaces.
pub fn plain(text: &str) -> String {
    visible(text, |character| matches!(character, '\n' | '\t').then(|| " ".to_owned()))
}

/// The same for text of several lines: line ends stay.
pub fn plain_lines(text: &str) -> String {
    visible(text, |character| match character {
        '\n' => Some("\n".to_owned()),
        '\t' => Some(" ".to_owned()),
        _ => None,
    })
}

fn visible(text: &str, kept: impl Fn(char) -> Option<String>) -> String {
    let mut plain = String::with_capacity(text.len());
    for character in text.chars() {
        match kept(character) {
            Some(instead) => plain.push_str(&instead),
            None if character.is_control() => plain.extend(character.escape_default()),
            None if is_hidden(character) => plain.extend(character.escape_unicode()),
            None => plain.push(character),
        }
    }
    plain
}

/// JSON (RFC 8259) that does nothing to a terminal either: the same value, with what
/// [`plain`] makes visible written as escapes. JSON's own line ends stay.
pub fn plain_json(json: &str) -> String {
    let mut plain = String::with_capacity(json.len());
    for character in json.chars() {
        if (character.is_control() && character != '\n') || is_hidden(character) {
            // All of them are in the Basic Multilingual Plane, and stand within strings.
            plain.push_str(&format!("\\u{:04x}", u32::from(character)));
        } else {
            plain.push(character);
        }
    }
    plain
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn terminal_escapes_and_direction_marks_are_made_visible() {
        assert_eq!(plain("a\x1b[31mb\u{9b}c\nd"), "a\\u{1b}[31mb\\u{9b}c d");
        assert_eq!(plain("pay\u{202e}evil"), "pay\\u{202e}evil");
        assert_eq!(plain_lines("a\nb\r\tc"), "a\nb\\r c");
    }

    #[test]
    fn octets_that_are_no_text_stay_legible() {
        assert_eq!(from_octets(b"uplink\0 \xff3"), "uplink\\x00 \\xff3");
        assert_eq!(from_octets(br"CORRIVEN\desk \x41"), r"CORRIVEN\desk \x5cx41");
    }

    proptest! {
        #[test]
        fn octets_come_back_whatever_they_are(octets: Vec<u8>, text in r"(\\|x|0|\PC|[\x00-\x1f]){0,20}") {
            for octets in [octets, text.into_bytes()] {
                let written = from_octets(&octets);
                prop_assert!(!written.contains('\0'));
                prop_assert_eq!(to_octets(&written), octets);
            }
        }

        #[test]
        fn json_is_the_same_value(text: String) {
            let json = serde_json::to_string_pretty(&[&text]).unwrap();
            let plain = plain_json(&json);
            let odd = |c: char| c.is_control() && c != '\n';
            prop_assert!(!plain.chars().any(|c| odd(c) || is_hidden(c)));
            prop_assert_eq!(serde_json::from_str::<Vec<String>>(&plain).unwrap(), [text]);
        }
    }
}
