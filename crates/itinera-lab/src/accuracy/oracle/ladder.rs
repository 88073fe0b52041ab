//! The oracles that are asked about a case, each of which knows less than the one before.

use super::evidence::Reader;
use super::known::Oracle;
use super::learned::{Baselines, Learned};
use super::told::Told;
use super::unknown::SizeUnknown;
use super::{LEARNED, ORACLE, Opinion, SIZE_UNKNOWN};
use crate::accuracy::cases::{Case, Kind};
use crate::accuracy::stretch::Stretch;

/// The oracles of one case.
#[derive(Debug)]
pub(in crate::accuracy) struct Ladder<'a> {
    /// The one that knows everything but the place.
    pub(in crate::accuracy) oracle: Oracle<'a>,
    unknown: Option<SizeUnknown<'a>>,
    learned: Option<Learned<'a>>,
}

/// What an oracle holds of a case.
#[derive(Debug, Clone)]
pub(in crate::accuracy) struct Asked {
    pub(in crate::accuracy) name: &'static str,
    pub(in crate::accuracy) opinion: Opinion,
    /// Of a loss: the probability that it gives to at most the true one.
    pub(in crate::accuracy) size_rank: Option<f64>,
}

impl<'a> Ladder<'a> {
    /// Those that do not know the size are asked where baselines are given.
    pub(in crate::accuracy) fn new(
        stretch: &'a Stretch<'a>,
        case: &Case,
        baselines: Option<&'a Baselines>,
    ) -> Self {
        let family = stretch.stage.world.family;
        let acts = Case::usual_spells(family);
        let learns = |_: &&Baselines| Learned::is_asked_in(family);
        Self {
            oracle: Oracle::new(stretch, case),
            unknown: baselines.map(|_| SizeUnknown::new(stretch, acts)),
            learned: baselines.filter(learns).map(|known| Learned::new(stretch, known)),
        }
    }

    /// Takes what one window tells.
    pub(in crate::accuracy) fn regard(&mut self, reader: &mut Reader<'_>, told: Vec<Told>) {
        self.oracle.regard(reader, &told);
        if let Some(learned) = &mut self.learned {
            learned.regard(told.clone());
        }
        if let Some(unknown) = &mut self.unknown {
            unknown.regard(told);
        }
    }

    /// What each holds of all that was seen, the one that knows least first.
    pub(in crate::accuracy) fn asked(&self, case: &Case, reader: &mut Reader<'_>) -> Vec<Asked> {
        let learned = self.learned.as_ref().map(|it| (LEARNED, it.opinion(reader)));
        let unknown = self.unknown.as_ref().map(|it| (SIZE_UNKNOWN, it.opinion(reader)));
        let has_size = case.kind.is_single() && case.kind != Kind::BlackHole;
        let held = learned.into_iter().chain(unknown);
        let mut asked: Vec<Asked> = held
            .map(|(name, held)| Asked {
                name,
                size_rank: held.loses_at_most(case.effect).filter(|_| has_size),
                opinion: held.opinion,
            })
            .collect();
        let opinion = self.oracle.opinion(case.kind);
        asked.push(Asked { name: ORACLE, opinion, size_rank: None });
        asked
    }
}
