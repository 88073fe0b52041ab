//! The one-time code by which an agent joins.

use data_encoding::BASE32_NOPAD;
use sha2::{Digest, Sha256};
use std::fmt;
use std::str::FromStr;

/// A join code: a secret that opens once, and the digest of the service's key that proves to
/// the connected agent.
///
/// Shape as text: two groups of 26 letters and digits (RFC 4648 base 32 of 16 bytes each)
/// joined by a hyphen; case does not matter.
#[derive(Clone, Copy, PartialEq, Eq)]
pub struct JoinCode {
    secret: [u8; 16],
    pin: [u8; 16],
}

/// A text that is no join code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("not a join code: two groups of 26 letters and digits with a hyphen between are expected")]
pub struct NotAJoinCode;

/// The first 16 bytes of the SHA-256 of a certificate (DER).
pub fn pin_of(certificate_der: &[u8]) -> [u8; 16] {
    let mut pin = [0; 16];
    pin.copy_from_slice(&Sha256::digest(certificate_der)[..16]);
    pin
}

impl JoinCode {
    /// A code of a fresh secret for the service with this CA certificate.
    pub fn new(secret: [u8; 16], authority_der: &[u8]) -> Self {
        Self { secret, pin: pin_of(authority_der) }
    }

    /// The secret, as the agent sends it.
    pub fn secret_text(&self) -> String {
        BASE32_NOPAD.encode(&self.secret)
    }

    /// The digest of the authority's certificate.
    pub const fn pin(&self) -> [u8; 16] {
        self.pin
    }

    /// The digest under which the service keeps a secret.
    pub fn digest_of(secret_text: &str) -> [u8; 32] {
        Sha256::digest(secret_text.to_ascii_uppercase().as_bytes()).into()
    }
}

impl fmt::Display for JoinCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{}", BASE32_NOPAD.encode(&self.secret), BASE32_NOPAD.encode(&self.pin))
    }
}

impl fmt::Debug for JoinCode {
    /// Without the secret.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "JoinCode(…-{})", BASE32_NOPAD.encode(&self.pin))
    }
}

impl FromStr for JoinCode {
    type Err = NotAJoinCode;
    fn from_str(text: &str) -> Result<Self, NotAJoinCode> {
        let text = text.trim().to_ascii_uppercase();
        let (secret, pin) = text.split_once('-').ok_or(NotAJoinCode)?;
        let octets = |group: &str| -> Result<[u8; 16], NotAJoinCode> {
            let decoded = BASE32_NOPAD.decode(group.as_bytes()).map_err(|_| NotAJoinCode)?;
            decoded.try_into().map_err(|_| NotAJoinCode)
        };
        Ok(Self { secret: octets(secret)?, pin: octets(pin)? })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn debug_output_keeps_the_secret() {
        let code = JoinCode::new([7; 16], b"authority");
        assert!(!format!("{code:?}").contains(&code.secret_text()));
    }

    proptest! {
        #[test]
        fn a_code_survives_being_written_in_either_case(secret: [u8; 16], der in prop::collection::vec(any::<u8>(), 0..40)) {
            let code = JoinCode::new(secret, &der);
            prop_assert!(code.to_string().to_lowercase().parse() == Ok(code));
            prop_assert_eq!(JoinCode::digest_of(&code.secret_text().to_lowercase()), JoinCode::digest_of(&code.secret_text()));
        }

        #[test]
        fn other_texts_are_refused(text in "[A-Za-z0-9-]{0,50}") {
            prop_assert!(text.parse::<JoinCode>().is_err());
        }
    }
}
