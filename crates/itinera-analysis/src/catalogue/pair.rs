//! Words of pairs of agents.

use super::Words;
use super::text::{count, interval, per_cent};
use crate::messages::loss_estimate;
use itinera_model::message::{LossEstimate, OneWayLoss, UnansweredPair};
use itinera_model::unit::Ratio;

pub(super) fn loss(loss: &OneWayLoss) -> Words {
    let OneWayLoss { from, to, lossy, opposite, limit, seconds } = loss;
    let ratio = Ratio::of(lossy.lost, lossy.sent).unwrap_or_default();
    let LossEstimate { low, high, .. } = loss_estimate(ratio.as_ppm(), *lossy);
    let interval = low.zip(high).map(|(low, high)| interval(low, high));
    let interval = interval.map(|it| format!(" (95 % interval {it})")).unwrap_or_default();
    Words::new(
        format!("{} packet loss from {from} to {to}", per_cent(ratio)),
        Some(format!(
            "Place not known: ask the providers of {from} and {to}, unless an alarm of this incident \
             names a place."
        )),
        vec![
            format!(
                "{} of {} from {from} to {to} were lost within {}{interval}; the limit is {}.",
                lossy.lost,
                count(lossy.sent, "packet"),
                count(*seconds, "second"),
                per_cent(*limit)
            ),
            format!(
                "In the opposite direction {} of {} were lost.",
                opposite.lost,
                count(opposite.sent, "packet")
            ),
            "Two-way measurement tells the direction of loss, not the hop.".to_owned(),
        ],
    )
}

pub(super) fn unreachable(pair: &UnansweredPair) -> Words {
    let UnansweredPair { near, far, sent, seconds } = pair;
    Words::new(
        format!("No packet returns between {near} and {far}"),
        Some(format!("Check filters of UDP at {near} and {far}, then call their providers.")),
        vec![format!(
            "None of {} from {near} to {far} was answered within {}. Both agents report, and earlier packets \
             were answered. The direction of the loss is not known.",
            count(*sent, "packet"),
            count(*seconds, "second")
        )],
    )
}
