//! Words of complaints.

use super::text::count;
use super::{Context, Words, located};
use crate::responsible::Responsible;
use itinera_model::finding::Cause;
use itinera_model::message::{CommonPlace, ComplaintFacts, FaultyPaths, Message};
use itinera_model::owner::OwnerMap;

fn counted(paths: FaultyPaths, which: &str) -> String {
    match paths {
        FaultyPaths { measured: 0, .. } => format!("No path {which} was measured."),
        FaultyPaths { measured: 1, faulty } => {
            let had = if faulty == 1 { "had a fault" } else { "had no fault" };
            format!("The one path {which} {had}.")
        }
        FaultyPaths { measured, faulty: 0 } => {
            format!("None of {measured} paths {which} had a fault.")
        }
        FaultyPaths { measured, .. } if paths.all() => {
            format!("All {measured} paths {which} had a fault.")
        }
        FaultyPaths { measured, faulty } => {
            format!("{faulty} of {measured} paths {which} had a fault.")
        }
    }
}

fn common(common: &CommonPlace, map: &OwnerMap) -> String {
    let CommonPlace { place, cause, naming, of } = common;
    let cause = match cause {
        Cause::Loss => "loss",
        Cause::Delay => "added delay",
        Cause::Break => "no packet passing",
        Cause::Misrouting => "a wrong route",
    };
    let owners = Responsible::of(place, map);
    let owners: Vec<&str> = owners.owners().iter().map(|owner| owner.name.as_str()).collect();
    let owners =
        if owners.is_empty() { String::new() } else { format!(" ({})", owners.join(", ")) };
    let paths = count(*of, "path");
    format!("{naming} of {paths} with a fault show {cause} on {}{owners}.", located::place(place))
}

pub(super) fn words(message: &Message, facts: &ComplaintFacts, context: &Context<'_>) -> Words {
    let ComplaintFacts { site, service, own, same_site, same_service, common: shared } = facts;
    let (headline, contact) = match message {
        Message::ComplaintNotMeasured(_) => (
            format!("{service} from {site}: not measured then"),
            "No verdict: run a diagnosis now.".to_owned(),
        ),
        Message::ComplaintNetworkClean(_) => (
            format!("{service} from {site}: network had no fault"),
            "Check the application and the user's own machine.".to_owned(),
        ),
        Message::ComplaintSite(_) => (
            format!("All services from {site} had faults"),
            format!("Check {site}'s own network, then call its access provider."),
        ),
        Message::ComplaintService(_) => (
            format!("{service} had faults from every site"),
            format!("Call the operator of {service} and its network provider."),
        ),
        _ => (
            format!("Network faults between {site} and {service}"),
            shared.as_ref().map_or_else(
                || "Compare the paths with a fault: no place is common to them.".to_owned(),
                |shared| located::contact(&Responsible::of(&shared.place, context.map)),
            ),
        ),
    };
    let mut detail = vec![
        counted(*own, &format!("from {site} to {service}")),
        counted(*same_site, &format!("from {site} to other services")),
        counted(*same_service, &format!("from other sites to {service}")),
    ];
    detail.extend(shared.as_ref().map(|place| common(place, context.map)));
    Words::new(headline, Some(contact), detail)
}
