//! What routers add behind the quote of an ICMP error (RFC 4884): the labels a packet carried
//! (RFC 4950) and the interface it came in by or would have left by (RFC 5837).

use crate::checksum;
use crate::reader::{Layer, ParseError, Reader};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Octets that a quote is padded to when extensions follow (RFC 4884 section 3); a quote of older
/// routers that do not state its length is taken to be as long (section 5.5).
pub const QUOTED_LEN: usize = 128;
/// Objects read at most: more are no router's answer.
const MAX_OBJECTS: usize = 16;
/// Labels read at most in one stack.
const MAX_LABELS: usize = 16;
/// The longest name of an interface with its length octet (RFC 5837 section 4.3).
const MAX_NAME: usize = 63;

/// One entry of a label stack (RFC 3032, RFC 5462).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Label {
    /// The label, 20 bits.
    pub label: u32,
    /// Traffic class, 3 bits.
    pub traffic_class: u8,
    /// True for the last of the stack.
    pub bottom: bool,
    /// Time to live as it came in.
    pub ttl: u8,
}

/// Which interface is meant (RFC 5837 section 4.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum InterfaceRole {
    /// The one the packet came in by.
    Incoming,
    /// A component of that one.
    Component,
    /// The one it would have left by.
    Outgoing,
    /// The next hop's.
    NextHop,
}

const ROLES: [InterfaceRole; 4] = [
    InterfaceRole::Incoming,
    InterfaceRole::Component,
    InterfaceRole::Outgoing,
    InterfaceRole::NextHop,
];

/// An interface as its router describes it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Interface {
    /// Which.
    pub role: InterfaceRole,
    /// Its number in the router's own table (RFC 2863).
    pub index: Option<u32>,
    /// Its address.
    pub address: Option<IpAddr>,
    /// Its name: foreign text.
    pub name: Option<Vec<u8>>,
    /// Its MTU in octets.
    pub mtu: Option<u32>,
}

/// One extension object. Unknown classes are values, not errors.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Object {
    /// The stack as it came in, outermost first.
    Labels(Vec<Label>),
    /// An interface.
    Interface(Interface),
    /// Anything else.
    Other {
        /// Class.
        class: u8,
        /// Kind within the class.
        kind: u8,
    },
}

/// Reads an extension structure that fills `octets`.
///
/// # Errors
/// [`ParseError`] when the version is another, the checksum is there and does not match, or an
/// object is cut off.
pub fn parse(octets: &[u8]) -> Result<Vec<Object>, ParseError> {
    let mut reader = Reader::new(Layer::Extension, octets);
    let version = reader.u8()? >> 4;
    if version != 2 {
        let value = u32::from(version);
        return Err(ParseError::Field { layer: Layer::Extension, field: "version", value });
    }
    reader.skip(1)?;
    // Zero: the sender has computed none (RFC 4884 section 7).
    if reader.u16()? != 0 && checksum::sum(octets) != 0xffff {
        return Err(ParseError::Checksum { layer: Layer::Extension });
    }
    let mut objects = Vec::new();
    while !reader.is_empty() && objects.len() < MAX_OBJECTS {
        let length = reader.u16()?;
        let (class, kind) = (reader.u8()?, reader.u8()?);
        let body = usize::from(length).checked_sub(4).ok_or_else(|| ParseError::Field {
            layer: Layer::Extension,
            field: "object length",
            value: u32::from(length),
        })?;
        let body = reader.take_slice(body)?;
        objects.push(match (class, kind) {
            (1, 1) => Object::Labels(labels(body)?),
            (2, kind) => Object::Interface(interface(kind, body)?),
            (class, kind) => Object::Other { class, kind },
        });
    }
    Ok(objects)
}

fn labels(body: &[u8]) -> Result<Vec<Label>, ParseError> {
    let mut reader = Reader::new(Layer::Extension, body);
    let mut labels = Vec::new();
    while !reader.is_empty() && labels.len() < MAX_LABELS {
        let entry = reader.u32()?;
        let [.., middle, ttl] = entry.to_be_bytes();
        labels.push(Label {
            label: entry >> 12,
            traffic_class: (middle >> 1) & 7,
            bottom: middle & 1 == 1,
            ttl,
        });
    }
    Ok(labels)
}

/// The kind's bits say the role and which parts follow, in this order: index, address, name, MTU.
fn interface(kind: u8, body: &[u8]) -> Result<Interface, ParseError> {
    let mut reader = Reader::new(Layer::Extension, body);
    let role = ROLES.get(usize::from(kind >> 6)).copied().unwrap_or(InterfaceRole::Incoming);
    let index = if kind & 8 != 0 { Some(reader.u32()?) } else { None };
    let address = if kind & 4 != 0 { address(&mut reader)? } else { None };
    let name = if kind & 2 != 0 { Some(name(&mut reader)?) } else { None };
    let mtu = if kind & 1 != 0 { Some(reader.u32()?) } else { None };
    Ok(Interface { role, index, address, name, mtu })
}

/// By address family number: 1 is IPv4, 2 is IPv6; what follows another cannot be told apart.
fn address(reader: &mut Reader<'_>) -> Result<Option<IpAddr>, ParseError> {
    let family = reader.u16()?;
    reader.skip(2)?;
    match family {
        1 => Ok(Some(Ipv4Addr::from(reader.take::<4>()?).into())),
        2 => Ok(Some(Ipv6Addr::from(reader.take::<16>()?).into())),
        other => Err(ParseError::Field {
            layer: Layer::Extension,
            field: "address family",
            value: u32::from(other),
        }),
    }
}

fn name(reader: &mut Reader<'_>) -> Result<Vec<u8>, ParseError> {
    let length = usize::from(reader.u8()?);
    if length == 0 || length > MAX_NAME.saturating_add(1) {
        let value = u32::try_from(length).unwrap_or(u32::MAX);
        return Err(ParseError::Field { layer: Layer::Extension, field: "name length", value });
    }
    let octets = reader.take_slice(length.saturating_sub(1))?;
    let end = octets.iter().rposition(|octet| *octet != 0).map_or(0, |last| last.saturating_add(1));
    Ok(octets.get(..end).unwrap_or_default().to_vec())
}

/// Appends an extension structure with these objects; those of other classes are left out.
pub fn emit(objects: &[Object], out: &mut Vec<u8>) {
    let start = out.len();
    out.extend_from_slice(&[0x20, 0, 0, 0]);
    for object in objects {
        let mut body = Vec::new();
        let (class, kind) = match object {
            Object::Labels(labels) => {
                labels.iter().for_each(|label| emit_label(*label, &mut body));
                (1, 1)
            }
            Object::Interface(interface) => (2, emit_interface(interface, &mut body)),
            Object::Other { .. } => continue,
        };
        let length = u16::try_from(body.len().saturating_add(4)).unwrap_or(u16::MAX);
        out.extend_from_slice(&length.to_be_bytes());
        out.extend_from_slice(&[class, kind]);
        out.append(&mut body);
    }
    let structure = out.get_mut(start..).unwrap_or_default();
    let field = checksum::field(checksum::sum(structure));
    if let Some(slot) = structure.get_mut(2..4) {
        slot.copy_from_slice(&field.to_be_bytes());
    }
}

fn emit_label(label: Label, out: &mut Vec<u8>) {
    let entry = (label.label << 12)
        | (u32::from(label.traffic_class & 7) << 9)
        | (u32::from(label.bottom) << 8)
        | u32::from(label.ttl);
    out.extend_from_slice(&entry.to_be_bytes());
}

fn emit_interface(interface: &Interface, out: &mut Vec<u8>) -> u8 {
    let role = ROLES.iter().position(|role| *role == interface.role).unwrap_or(0);
    let mut kind = u8::try_from(role).unwrap_or(0) << 6;
    if let Some(index) = interface.index {
        kind |= 8;
        out.extend_from_slice(&index.to_be_bytes());
    }
    match interface.address {
        Some(IpAddr::V4(address)) => {
            kind |= 4;
            out.extend_from_slice(&[0, 1, 0, 0]);
            out.extend_from_slice(&address.octets());
        }
        Some(IpAddr::V6(address)) => {
            kind |= 4;
            out.extend_from_slice(&[0, 2, 0, 0]);
            out.extend_from_slice(&address.octets());
        }
        None => {}
    }
    if let Some(name) = &interface.name {
        kind |= 2;
        let octets = name.get(..MAX_NAME).unwrap_or(name);
        // Padded to whole words together with its length octet.
        let padded = octets.len().saturating_add(1).next_multiple_of(4);
        out.push(u8::try_from(padded).unwrap_or(u8::MAX));
        out.extend_from_slice(octets);
        let zeros = padded.saturating_sub(1).saturating_sub(octets.len());
        out.resize(out.len().saturating_add(zeros), 0);
    }
    if let Some(mtu) = interface.mtu {
        kind |= 1;
        out.extend_from_slice(&mtu.to_be_bytes());
    }
    kind
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use proptest::prelude::*;

    prop_compose! {
        fn any_label()(label in 0u32..1 << 20, traffic_class in 0u8..8, bottom: bool, ttl: u8) -> Label {
            Label { label, traffic_class, bottom, ttl }
        }
    }
    prop_compose! {
        fn any_interface()(
            role in 0usize..4, index: Option<u32>, six: Option<bool>, bits: u128,
            name in prop::option::of(prop::collection::vec(1_u8.., 1..40)), mtu: Option<u32>,
        ) -> Interface {
            let address = six.map(|six| if six {
                Ipv6Addr::from(bits).into()
            } else {
                Ipv4Addr::from((bits >> 96) as u32).into()
            });
            Interface { role: ROLES[role], index, address, name, mtu }
        }
    }

    /// Any objects that a router could send.
    pub(crate) fn any_objects() -> impl Strategy<Value = Vec<Object>> {
        let labels = prop::collection::vec(any_label(), 1..5).prop_map(Object::Labels);
        prop::collection::vec(
            prop_oneof![labels, any_interface().prop_map(Object::Interface)],
            1..4,
        )
    }

    proptest! {
        #[test]
        fn parse_after_emit_returns_the_objects(objects in any_objects(), bit: usize) {
            let mut octets = Vec::new();
            emit(&objects, &mut octets);
            prop_assert_eq!(parse(&octets), Ok(objects.clone()));
            for end in 0..octets.len() {
                prop_assert_ne!(parse(&octets[..end]), Ok(objects.clone()));
            }
            let bit = bit % (octets.len() * 8);
            octets[bit / 8] ^= 1 << (bit % 8);
            // The second octet is reserved; the checksum covers it all the same.
            prop_assert!(parse(&octets).is_err());
        }

        #[test]
        fn any_octets_are_read_calmly(mut octets in prop::collection::vec(any::<u8>(), 0..200), honest: bool) {
            if honest && octets.len() >= 4 {
                // Past the version and without a checksum, so that objects are reached.
                octets[0] = 0x20;
                octets[2..4].fill(0);
            }
            if let Ok(objects) = parse(&octets) {
                prop_assert!(objects.len() <= MAX_OBJECTS);
            }
        }
    }
}
