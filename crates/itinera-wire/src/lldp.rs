//! What a neighbour on the link announces of itself (LLDP, IEEE 802.1AB-2016 clause 8): read, and
//! never sent.

use crate::reader::{Layer, ParseError, Reader};
use std::fmt::Write;

/// The protocol's number in Ethernet frames (IEEE 802.1AB clause 7.4).
pub const ETHERTYPE: u16 = 0x88cc;
/// The groups it is sent to: nearest bridge, nearest bridge but a two-port one, nearest customer
/// bridge (clause 7.1). Bridges do not pass the first on.
pub const GROUPS: [[u8; 6]; 3] = [
    [0x01, 0x80, 0xc2, 0x00, 0x00, 0x0e],
    [0x01, 0x80, 0xc2, 0x00, 0x00, 0x03],
    [0x01, 0x80, 0xc2, 0x00, 0x00, 0x00],
];

/// Kinds of element (table 8-1).
const END: u8 = 0;
const CHASSIS: u8 = 1;
const PORT: u8 = 2;
const TIME_TO_LIVE: u8 = 3;
const PORT_DESCRIPTION: u8 = 4;
const SYSTEM_NAME: u8 = 5;
/// How a chassis and a port identify themselves where it is a hardware address (tables 8-2, 8-3).
const CHASSIS_HARDWARE: u8 = 4;
const PORT_HARDWARE: u8 = 3;

/// One announcement. Texts are foreign and may hold anything.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Announcement {
    /// The announcing system: hardware addresses as users write them, everything else as it came.
    pub chassis: Vec<u8>,
    /// By which of its ports, likewise.
    pub port: Vec<u8>,
    /// How long it holds, in seconds; 0 where the neighbour leaves.
    pub lifetime_s: u16,
    /// What the port is called, where it is said.
    pub port_description: Option<Vec<u8>>,
    /// What the neighbour is called, where it is said.
    pub system_name: Option<Vec<u8>>,
}

impl Announcement {
    /// Reads what stands behind the Ethernet header.
    ///
    /// # Errors
    /// [`ParseError`] when an element is cut short, or when the three mandatory ones are not
    /// first and in order (clause 8.2).
    pub fn parse(octets: &[u8]) -> Result<Self, ParseError> {
        let mut reader = Reader::new(Layer::Lldp, octets);
        let chassis = identity(mandatory(&mut reader, CHASSIS)?, CHASSIS_HARDWARE)?;
        let port = identity(mandatory(&mut reader, PORT)?, PORT_HARDWARE)?;
        let lifetime_s = Reader::new(Layer::Lldp, mandatory(&mut reader, TIME_TO_LIVE)?).u16()?;
        let (mut port_description, mut system_name) = (None, None);
        while !reader.is_empty() {
            match element(&mut reader)? {
                (END, _) => break,
                (PORT_DESCRIPTION, value) => port_description = text(value),
                (SYSTEM_NAME, value) => system_name = text(value),
                _ => {}
            }
        }
        Ok(Self { chassis, port, lifetime_s, port_description, system_name })
    }
}

/// One element: its kind (7 bits) and its value, of a length that 9 bits say (figure 8-2).
fn element<'a>(reader: &mut Reader<'a>) -> Result<(u8, &'a [u8]), ParseError> {
    let [first, length] = reader.take::<2>()?;
    let long = usize::from(u16::from_be_bytes([first & 1, length]));
    Ok((first >> 1, reader.take_slice(long)?))
}

fn mandatory<'a>(reader: &mut Reader<'a>, wanted: u8) -> Result<&'a [u8], ParseError> {
    match element(reader)? {
        (kind, value) if kind == wanted => Ok(value),
        (kind, _) => {
            let value = kind.into();
            Err(ParseError::Field { layer: Layer::Lldp, field: "kind of element", value })
        }
    }
}

fn identity(value: &[u8], hardware: u8) -> Result<Vec<u8>, ParseError> {
    let mut reader = Reader::new(Layer::Lldp, value);
    let kind = reader.u8()?;
    let id = reader.rest();
    if kind != hardware {
        return Ok(id.to_vec());
    }
    let mut written = String::new();
    for (at, octet) in id.iter().enumerate() {
        let gap = if at > 0 { ":" } else { "" };
        // Writing to a string does not fail.
        let _ = write!(written, "{gap}{octet:02x}");
    }
    Ok(written.into_bytes())
}

fn text(value: &[u8]) -> Option<Vec<u8>> {
    (!value.is_empty()).then(|| value.to_vec())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn put(kind: u8, value: &[u8], out: &mut Vec<u8>) {
        let [high, low] = u16::try_from(value.len()).unwrap().to_be_bytes();
        out.extend([kind << 1 | high, low]);
        out.extend(value);
    }

    fn announced(name: impl AsRef<[u8]>, description: impl AsRef<[u8]>) -> Vec<u8> {
        let mut out = Vec::new();
        put(CHASSIS, &[CHASSIS_HARDWARE, 2, 0, 0, 0, 0, 0x2a], &mut out);
        put(PORT, b"\x05port-7", &mut out);
        put(TIME_TO_LIVE, &[0, 120], &mut out);
        put(PORT_DESCRIPTION, description.as_ref(), &mut out);
        put(7, &[0, 4, 0, 4], &mut out);
        put(SYSTEM_NAME, name.as_ref(), &mut out);
        put(END, &[], &mut out);
        out.extend([0; 10]);
        out
    }

    #[test]
    fn what_stands_behind_the_end_is_padding() {
        let heard = Announcement::parse(&announced("edge-switch", "ferry office")).unwrap();
        assert_eq!(heard.chassis, b"02:00:00:00:00:2a");
        assert_eq!((heard.port.as_slice(), heard.lifetime_s), (&b"port-7"[..], 120));
        assert_eq!(heard.system_name.as_deref(), Some(&b"edge-switch"[..]));
        assert_eq!(heard.port_description.as_deref(), Some(&b"ferry office"[..]));
    }

    #[test]
    fn the_mandatory_elements_come_first_and_in_order() {
        let mut turned = Vec::new();
        put(PORT, b"\x05port-7", &mut turned);
        let field = |octets: &[u8]| Announcement::parse(octets).unwrap_err().to_string();
        assert_eq!(field(&turned), "LLDP: impossible kind of element 2");
        assert_eq!(field(&[2]), "LLDP: 2 octets needed at offset 0, 1 there");
        assert_eq!(field(&[2, 7, 4]), "LLDP: 7 octets needed at offset 2, 1 there");
    }

    proptest! {
        #[test]
        fn any_octets_are_read_or_refused(octets in prop::collection::vec(any::<u8>(), 0..600)) {
            let _ = Announcement::parse(&octets);
        }

        #[test]
        fn damage_is_read_or_refused(at in 0_usize..80, octet: u8, cut in 0_usize..90) {
            let mut octets = announced("edge-switch", "ferry office");
            let at = at % octets.len();
            octets[at] = octet;
            octets.truncate(cut);
            if let Ok(heard) = Announcement::parse(&octets) {
                prop_assert!(heard.chassis.len() < 600 && heard.port.len() < 600);
            }
        }

        #[test]
        fn names_come_through_as_they_are(
            name in prop::collection::vec(any::<u8>(), 1..60),
            description in prop::collection::vec(any::<u8>(), 1..60),
        ) {
            let heard = Announcement::parse(&announced(&name, &description)).unwrap();
            prop_assert_eq!(heard.system_name, Some(name));
            prop_assert_eq!(heard.port_description, Some(description));
        }
    }
}
