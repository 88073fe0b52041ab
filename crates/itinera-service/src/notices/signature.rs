//! Signatures of HTTP requests with a shared secret: HTTP Message Signatures (RFC 9421) over the digest of
//! the content (RFC 9530).

use data_encoding::BASE64;
use hmac::{Hmac, KeyInit, Mac};
use sha2::{Digest, Sha256};

/// What is signed of a request.
pub(super) struct Signed<'a> {
    pub(super) url: &'a str,
    pub(super) media: &'a str,
    pub(super) content: &'a [u8],
    /// Seconds since 1970.
    pub(super) created: i64,
    /// Names the secret: the receiver's id.
    pub(super) key_id: &'a str,
}

/// The headers of a signed request.
pub(super) struct SignatureHeaders {
    pub(super) content_digest: String,
    pub(super) signature_input: String,
    pub(super) signature: String,
}

/// The lines that are signed: each component, then the parameters.
fn base(components: &[(&str, &str)], parameters: &str) -> String {
    let lines = components.iter().map(|(name, value)| format!("\"{name}\": {value}\n"));
    format!("{}\"@signature-params\": {parameters}", lines.collect::<String>())
}

fn parameters(components: &[(&str, &str)], created: i64, rest: &str) -> String {
    let names: Vec<String> = components.iter().map(|(name, _)| format!("\"{name}\"")).collect();
    format!("({});created={created};{rest}", names.join(" "))
}

#[allow(clippy::expect_used, reason = "HMAC takes a key of any length")]
fn mac(secret: &[u8], base: &str) -> String {
    let mut mac = Hmac::<Sha256>::new_from_slice(secret).expect("a key of any length");
    mac.update(base.as_bytes());
    BASE64.encode(&mac.finalize().into_bytes())
}

/// Signs a POST request.
pub(super) fn sign(signed: &Signed<'_>, secret: &[u8]) -> SignatureHeaders {
    let content_digest = format!("sha-256=:{}:", BASE64.encode(&Sha256::digest(signed.content)));
    let components = [
        ("@method", "POST"),
        ("@target-uri", signed.url),
        ("content-type", signed.media),
        ("content-digest", content_digest.as_str()),
    ];
    let rest = format!("keyid=\"{}\";alg=\"hmac-sha256\"", signed.key_id);
    let parameters = parameters(&components, signed.created, &rest);
    let signature = mac(secret, &base(&components, &parameters));
    SignatureHeaders {
        signature_input: format!("itinera={parameters}"),
        signature: format!("itinera=:{signature}:"),
        content_digest,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The code of RFC 4231, test case 2, over the lines of RFC 9421, section 2.5.
    #[test]
    fn the_lines_that_are_signed_and_the_code_are_those_of_the_standards() {
        let code = mac(b"Jefe", "what do ya want for nothing?");
        let expected = "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843";
        let decoded = BASE64.decode(code.as_bytes()).unwrap();
        assert_eq!(data_encoding::HEXLOWER.encode(&decoded), expected);
        let components = [("@method", "POST"), ("content-type", "application/json")];
        let parameters = parameters(&components, 1_618_884_473, "keyid=\"desk\"");
        let expected = "\"@method\": POST\n\"content-type\": application/json\n\
            \"@signature-params\": (\"@method\" \"content-type\");created=1618884473;keyid=\"desk\"";
        assert_eq!(base(&components, &parameters), expected);
    }

    #[test]
    fn a_signature_covers_address_type_content_and_time() {
        let signed = |url, content: &'static str, created| Signed {
            url,
            media: "application/json",
            content: content.as_bytes(),
            created,
            key_id: "desk",
        };
        let url = "https://desk.corriven.example/notices";
        let of = |signed: &Signed<'_>| sign(signed, b"secret").signature;
        let first = of(&signed(url, "{}", 1));
        assert_eq!(first, of(&signed(url, "{}", 1)));
        for other in [
            signed("https://desk.corriven.example/other", "{}", 1),
            signed(url, "{ }", 1),
            signed(url, "{}", 2),
        ] {
            assert_ne!(first, of(&other));
        }
        assert_ne!(first, sign(&signed(url, "{}", 1), b"other").signature);
    }
}
