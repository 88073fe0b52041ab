//! Whether a way is the intended one.

use itinera_model::finding::Assessment;
use itinera_model::owner::OwnerMap;

/// What is intended of a way; what is absent does not matter.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Intended {
    /// AS numbers of owners, in order.
    pub owners: Vec<u32>,
    /// Through a tunnel of the agent's machine, or through none.
    pub tunnel: Option<bool>,
    /// Marks arrive as they were sent.
    pub dscp_kept: bool,
}

/// What is seen of a way.
#[derive(Debug, Clone, Copy)]
pub struct RouteState<'a> {
    /// Its newest judgement, with its hops.
    pub assessment: &'a Assessment,
    /// Whether it begins in a tunnel of the agent's machine; absent where nobody knows.
    pub tunnel: Option<bool>,
    /// The mark as it was sent, and as it arrived last on the way; absent where nobody said.
    pub dscp: Option<(u8, u8)>,
}

/// What is not as intended, in words; absent when all of it is.
pub fn astray(intended: &Intended, seen: RouteState<'_>, map: &OwnerMap) -> Option<String> {
    let mut said = Vec::new();
    if !intended.owners.is_empty() {
        let mut taken: Vec<(u32, String)> = Vec::new();
        for address in seen.assessment.hops.iter().filter_map(|hop| hop.address) {
            let Some(owner) = map.owner_of(address) else { continue };
            if taken.last().is_none_or(|(last, _)| *last != owner.as_number) {
                taken.push((owner.as_number, owner.name.clone()));
            }
        }
        let numbers: Vec<u32> = taken.iter().map(|(number, _)| *number).collect();
        // Owners of which no hop answered may be on the way all the same: what is seen must be in
        // order, and nobody else's.
        let mut wanted = intended.owners.iter();
        let in_order = numbers.iter().all(|number| wanted.any(|it| it == number));
        if !in_order && !numbers.is_empty() {
            let names: Vec<&str> = taken.iter().map(|(_, name)| name.as_str()).collect();
            let meant: Vec<String> =
                intended.owners.iter().map(|number| format!("AS {number}")).collect();
            said.push(format!(
                "it leads through {}, and should through {}",
                names.join(", "),
                meant.join(", ")
            ));
        }
    }
    match (intended.tunnel, seen.tunnel) {
        (Some(true), Some(false)) => said.push("it leads through no tunnel, and should".to_owned()),
        (Some(false), Some(true)) => {
            said.push("it leads through a tunnel, and should not".to_owned());
        }
        _ => {}
    }
    if let Some((sent, arrived)) = seen.dscp.filter(|(sent, arrived)| sent != arrived)
        && intended.dscp_kept
    {
        said.push(format!("packets marked {sent} arrive marked {arrived}"));
    }
    (!said.is_empty()).then(|| said.join("; "))
}
