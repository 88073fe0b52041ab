//! One case explained: the world, the truth, the measurements and the answers.

use super::atlas::Suspect;
use super::cases::{Case, Effect, Kind, draw};
use super::groups::serde_name;
use super::oracle::{Asked, LEARNED, Ladder, ORACLE, Reader, SIZE_UNKNOWN};
use super::picture::{self, Cell, Mark, Row, Tally};
use super::run::{CaseRecord, Warm};
use super::setup::Setup;
use super::stage::Stage;
use super::stretch::Stretch;
use super::verdict;
use super::window::{Window, begin_of};
use itinera_analysis::catalogue;
use itinera_analysis::stat::median;
use itinera_candidates::{Claim, Region};
use itinera_model::finding::Place;
use itinera_model::two_way::Direction;
use itinera_simnet::closed_form::{Passage, RouteHop, Sampler};
use itinera_simnet::worlds::WorldFamily;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;

/// Routes shown at most, those that cross the fault first.
const MOST_MEMBERS: usize = 24;

/// A case told.
#[derive(Debug, Clone)]
pub struct Explained {
    /// For reading.
    pub text: String,
    /// For looking at: SVG 1.1.
    pub svg: String,
    /// The world as a scenario file, with what changes in it.
    pub scenario: String,
    /// Its owner map as CSV.
    pub owner_map: String,
    /// Sites: their names and addresses.
    pub sites: Vec<(String, String)>,
    /// Targets: their names and addresses.
    pub targets: Vec<(String, String)>,
    /// What came of it.
    pub record: CaseRecord,
}

/// Plays the nth case of a world again and tells it.
pub fn explain(setup: &Setup, family: WorldFamily, seed: u64, number: u64) -> Explained {
    let stage = Stage::new(setup, family, seed);
    let stretch = Stretch::of_case(&stage, number);
    let case = draw(&stretch, number);
    let warm = Warm::new(&stretch);
    let mut tallies: BTreeMap<(usize, usize), Vec<Gathered>> = BTreeMap::new();
    let mut sampler = stretch.calm.clone();
    let mut drawn = Window::default();
    for window in 0..stretch.history {
        stretch.window(&mut sampler, window, 0, &mut drawn);
        gather(&sampler, &drawn, 0, &mut tallies);
    }
    let changed = stretch.changed(&case.changes);
    let mut said: Vec<(String, Vec<Claim>)> = Vec::new();
    let mut reader = Reader::new(&stretch);
    let mut ladder = Ladder::new(&stretch, &case, warm.baselines.as_ref());
    let record = warm.play(&case, |moment| {
        if moment.window > case.asked_after() {
            return;
        }
        // The first window of a case is partly before it.
        if moment.window > stretch.history {
            gather(&changed, moment.drawn, 1, &mut tallies);
        }
        let told = reader.window(moment.drawn);
        ladder.regard(&mut reader, told);
        said =
            moment.claims.iter().map(|(who, claims)| ((*who).to_owned(), claims.clone())).collect();
    });
    let rows = rows(&stretch, &changed, &case, &tallies);
    let has_oracle = record.verdicts.contains_key(ORACLE);
    let asked = if has_oracle { ladder.asked(&case, &mut reader) } else { Vec::new() };
    let mut text = String::new();
    tell(&mut text, &stage, &record);
    tell_rows(&mut text, &rows, record.effect);
    tell_claims(&mut text, &stage, &record, &said, &asked);
    let marks = marks(&stage, &said);
    let notes = notes(&record, &said);
    let title = title(&stage, &record);
    let svg = picture::draw(&title, &rows, &marks, &notes, record.effect);
    let host =
        |host: &itinera_simnet::worlds::HostPlan| (host.name.clone(), host.address.to_string());
    Explained {
        text,
        svg,
        scenario: stretch.world().scenario(&case.changes),
        owner_map: stage.world.owner_map(),
        sites: stage.world.sites.iter().map(host).collect(),
        targets: stage.world.targets.iter().map(host).collect(),
        record,
    }
}

/// Counts and delays of one hop while they are gathered.
#[derive(Debug, Clone, Default)]
struct Gathered {
    sent: [u32; 2],
    lost: [u32; 2],
    delays_ms: [Vec<f64>; 2],
}

fn gather(
    sampler: &Sampler,
    drawn: &Window,
    which: usize,
    into: &mut BTreeMap<(usize, usize), Vec<Gathered>>,
) {
    for round in &drawn.rounds {
        let flow = usize::try_from(round.number % sampler.flows(round.path) as u64).unwrap_or(0);
        let hops = into.entry((round.path, flow)).or_default();
        hops.resize_with(hops.len().max(round.hops.len()), Gathered::default);
        for (hop, counts) in hops.iter_mut().zip(&round.hops) {
            hop.sent[which] += u32::from(counts.sent);
            hop.lost[which] += u32::from(counts.sent) - u32::from(counts.answers());
            let delays = counts.rtt.iter().map(|rtt| f64::from(rtt.as_micros()) / 1e3);
            hop.delays_ms[which].extend(delays);
        }
    }
}

fn tally(gathered: &Gathered) -> Tally {
    Tally {
        sent: gathered.sent,
        lost: gathered.lost,
        delay_ms: [0, 1].map(|which| median(&gathered.delays_ms[which])),
    }
}

/// The routes that cross the fault; where none does, some that do not.
fn rows(
    stretch: &Stretch<'_>,
    sampler: &Sampler,
    case: &Case,
    tallies: &BTreeMap<(usize, usize), Vec<Gathered>>,
) -> Vec<Row> {
    let stage = stretch.stage;
    let is_faulty = |passage: &Passage| {
        case.suspects().iter().any(|suspect| match suspect {
            Suspect::Member(link, member) => *passage == Passage { link: *link, member: *member },
            other => stage.atlas.links_of(*other).contains(&passage.link),
        })
    };
    let at = begin_of(stretch.history + 2);
    let mut crossing: Vec<(bool, Row)> = Vec::new();
    let mut seen = BTreeSet::new();
    for ((path, flow), gathered) in tallies {
        let (route, _) = sampler.route(*path, *flow as u64, at);
        let Some(end) = route.last() else { continue };
        let there = end.there.iter().any(is_faulty);
        let back = route.iter().any(|hop| hop.return_.iter().any(is_faulty));
        // One row for each direction; flows that share it are one.
        let nodes: Vec<usize> = route.iter().map(|hop| hop.node).collect();
        if !(there || back || case.suspects().is_empty()) || !seen.insert((*path, nodes)) {
            continue;
        }
        let row = row(stage, *path, route, gathered, &is_faulty);
        crossing.push((there, row));
    }
    crossing.sort_by_key(|(there, _)| !there);
    crossing.into_iter().map(|(_, row)| row).take(MOST_MEMBERS).collect()
}

fn row(
    stage: &Stage,
    path: usize,
    route: &[RouteHop],
    gathered: &[Gathered],
    is_faulty: &dyn Fn(&Passage) -> bool,
) -> Row {
    let atlas = &stage.atlas;
    let plan = &stage.paths[path];
    let mut passed = 0;
    let cells = route.iter().zip(gathered).map(|(hop, gathered)| {
        let links = hop.there[passed..].iter().map(|passage| atlas.edge(passage.link)).collect();
        if hop.address.is_some() {
            passed = hop.there.len();
        }
        Cell {
            name: stage.world.id(hop.node).to_owned(),
            owner: atlas.owner(hop.node).to_owned(),
            silent: hop.address.is_none(),
            back_crosses: hop.return_.iter().any(is_faulty),
            tally: tally(gathered),
            links,
        }
    });
    let onset = route.iter().position(|hop| hop.there.iter().any(is_faulty));
    Row {
        site: stage.world.sites[plan.site].name.clone(),
        target: stage.world.targets[plan.target].name.clone(),
        hops: cells.collect(),
        onset,
    }
}

fn add(text: &mut String, more: std::fmt::Arguments<'_>) {
    // Writing to a string cannot fail.
    let _always = text.write_fmt(more);
}

fn how_bad(kind: Kind, effect: Effect) -> String {
    match (kind, effect) {
        (Kind::None | Kind::RouteChange | Kind::ClockStep, _) => String::new(),
        (_, Effect::Loss(share)) => format!(", {:.1} % lost", share * 100.0),
        (_, Effect::DelayMs(ms)) => format!(", {ms:.0} ms added"),
    }
}

fn title(stage: &Stage, record: &CaseRecord) -> String {
    format!(
        "World {} of the family {}, setup {}, case {}: {}{}",
        stage.world.seed,
        stage.world.family,
        stage.setup.name,
        record.number,
        serde_name(record.kind),
        how_bad(record.kind, record.effect),
    )
}

fn tell(text: &mut String, stage: &Stage, record: &CaseRecord) {
    let truth = &record.truth;
    add(text, format_args!("{}\n\n", title(stage, record)));
    add(
        text,
        format_args!(
            "World     {} agents, {} targets, {} routers of {} networks, {} links; {} paths, {} pairs\n",
            stage.world.sites.len(),
            stage.world.targets.len(),
            stage.world.routers.len(),
            stage.world.owners.len(),
            stage.world.links.len(),
            stage.paths.len(),
            stage.pairs.len(),
        ),
    );
    let links = truth.links.iter().zip(&truth.effects).zip(&truth.after_s);
    for (([from, to], effect), after_s) in links.take(8) {
        let second = match record.kind {
            Kind::Two => {
                format!("{}, {after_s:.0} s after the onset", how_bad(record.kind, *effect))
            }
            _ => String::new(),
        };
        add(text, format_args!("Truth     {from} to {to}{second}\n"));
    }
    if truth.links.len() > 8 {
        add(text, format_args!("          and {} links more\n", truth.links.len() - 8));
    }
    if let Some(member) = truth.member {
        add(text, format_args!("          member {member} of the bundle only\n"));
    }
    if record.kind.is_fault() {
        let owners: Vec<&str> = truth.owners.iter().map(String::as_str).collect();
        add(text, format_args!("          equipment of {}\n", owners.join(", ")));
        add(
            text,
            format_args!(
                "          {} paths and {} pairs cross it; {}\n",
                truth.paths_crossing,
                truth.pairs_crossing,
                class_in_words(truth.class_links),
            ),
        );
        if !truth.nameable {
            let text_of =
                "no claim can name it: no routes that are seen have nothing but it in common";
            add(text, format_args!("          {text_of}\n"));
        }
    } else {
        add(text, format_args!("Truth     no fault\n"));
    }
    if let Some(nats) = truth.information_nats {
        let verdict =
            if truth.is_undetectable() { ": undetectable without false alarms" } else { "" };
        let lasts = truth.lasts_s.map_or_else(
            || "its first ten minutes".to_owned(),
            |lasts_s| format!("the {lasts_s:.0} s that it lasts"),
        );
        add(text, format_args!("          {lasts} are worth {nats:.0} nats{verdict}\n"));
    }
}

fn class_in_words(links: usize) -> String {
    match links {
        0 | 1 => "it can be told from every other link".to_owned(),
        more => format!("{more} links cannot be told apart, it and {} more", more - 1),
    }
}

fn tell_rows(text: &mut String, rows: &[Row], effect: Effect) {
    let what = match effect {
        Effect::Loss(_) => "per cent lost since it began, beyond what was usual",
        Effect::DelayMs(_) => "milliseconds later since it began than was usual",
    };
    add(
        text,
        format_args!(
            "\nMeasured  {what}; | where probes cross the fault, <x> where only the answer does, o silent\n"
        ),
    );
    for row in rows {
        let mut line = format!("  {:<8} to {:<10}", row.site, row.target);
        for (index, cell) in row.hops.iter().enumerate() {
            line.push_str(if row.onset == Some(index) { " |" } else { "  " });
            let figure = match effect {
                _ if cell.silent => "o".to_owned(),
                Effect::Loss(_) => format!("{:.0}", cell.tally.more_loss() * 100.0),
                Effect::DelayMs(_) => cell
                    .tally
                    .more_delay()
                    .map_or_else(|| "?".to_owned(), |ms| format!("{:.0}", ms.max(0.0))),
            };
            let only_back = cell.back_crosses && row.onset.is_none_or(|onset| index < onset);
            let figure = if only_back { format!("<{figure}>") } else { figure };
            add(&mut line, format_args!("{figure:>4}"));
        }
        add(text, format_args!("{}\n", line.trim_end()));
    }
    if rows.is_empty() {
        text.push_str("  no route crosses it\n");
    }
}

fn place_in_words(place: &Place) -> String {
    let Some((from, to)) = place.ends() else {
        return catalogue::place(place);
    };
    match place.silent_between() {
        0 => format!("{from} to {to}"),
        1 => format!("{from} to {to}, a silent hop between"),
        more => format!("{from} to {to}, {more} silent hops between"),
    }
}

fn region_in_words(region: &Region) -> String {
    match region {
        Region::Place(place) => place_in_words(place),
        Region::Line { host } => format!("the line of {host}"),
        Region::ReturnRoute { hop, agent } => format!("the return route from {hop} to {agent}"),
        Region::Pair { pair, direction: Direction::Forward } => format!("pair {pair}, forward"),
        Region::Pair { pair, direction: Direction::Return } => format!("pair {pair}, return"),
        Region::Common { of, without } => {
            format!("what {} routes share and {} do not", of.len(), without.len())
        }
    }
}

fn tell_claims(
    text: &mut String,
    stage: &Stage,
    record: &CaseRecord,
    said: &[(String, Vec<Claim>)],
    asked: &[Asked],
) {
    let after = record.truth.lasts_s.map_or_else(
        || "ten minutes after it began".to_owned(),
        |lasts_s| format!("when it ended, {lasts_s:.0} s after it began"),
    );
    add(text, format_args!("\nSaid {after}\n"));
    for (who, claims) in said {
        let verdict = &record.verdicts[who];
        add(text, format_args!("  {who:<10}{}\n", judged(record, verdict)));
        for claim in claims.iter().take(3) {
            let cause = claim.cause;
            let owner = claim.owner.as_ref().map_or("none", |(owner, _)| owner.as_str());
            for (place, probability) in claim.places.iter().take(1) {
                add(
                    text,
                    format_args!(
                        "            {cause} on {}, {owner}, confidence {:.0} %\n",
                        region_in_words(place),
                        probability * 100.0,
                    ),
                );
            }
        }
        if claims.len() > 3 {
            add(text, format_args!("            and {} more claims\n", claims.len() - 3));
        }
    }
    if asked.is_empty() {
        text.push_str("  oracles   are asked about single faults only\n");
    }
    for Asked { name, opinion, .. } in asked {
        add(text, format_args!("  {name}: {}\n", judged(record, &record.verdicts[*name])));
        let mut best: Vec<_> = opinion.candidates.iter().collect();
        best.sort_by(|a, b| b.probability.total_cmp(&a.probability));
        for candidate in best.into_iter().take(3).filter(|it| it.probability > 0.001) {
            let suspect = stage.atlas.suspects[candidate.suspect];
            let percent = candidate.probability * 100.0;
            let words = verdict::suspect_in_words(stage, suspect);
            add(text, format_args!("            {} on {words}, {percent:.1} %\n", candidate.cause));
        }
        add(text, format_args!("            no fault, {:.1} %\n", opinion.nothing * 100.0));
    }
}

fn judged(record: &CaseRecord, verdict: &super::CaseScore) -> String {
    let noticed =
        verdict.noticed_s.map_or_else(String::new, |s| format!(", first right after {s:.0} s"));
    let words = match (record.kind.is_fault(), verdict.claimed) {
        (false, false) => "rightly claims nothing",
        (false, true) => "claims what is not there",
        (true, false) => "misses it",
        (true, true) if record.kind == Kind::Two && verdict.is_right(Kind::Two) => "both right",
        (true, true) if verdict.is_right(record.kind) && record.kind == Kind::OwnerWide => {
            "extent right"
        }
        (true, true) if verdict.link => "link right",
        (true, true) if verdict.near => "next to the link",
        (true, true) if verdict.owner => "owner right, link wrong",
        (true, true) => "wrong",
    };
    format!("{words}{noticed}")
}

/// What is true and what came of it, a line each.
fn notes(record: &CaseRecord, said: &[(String, Vec<Claim>)]) -> Vec<String> {
    let truth = &record.truth;
    let links: Vec<String> =
        truth.links.iter().take(3).map(|[from, to]| format!("{from} to {to}")).collect();
    let more = match truth.links.len().saturating_sub(3) {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    let owners: Vec<&str> = truth.owners.iter().map(String::as_str).collect();
    let first = match record.kind.is_fault() {
        true => format!("The fault: {}{more}; {}.", links.join(", "), owners.join(", ")),
        false => "Nothing is wrong.".to_owned(),
    };
    let line = |who: &str| {
        let verdict = record.verdicts.get(who)?;
        let claims = match verdict.claims {
            0 | 1 => String::new(),
            claims => format!(", {claims} claims in all"),
        };
        Some(format!("{who}: {}{claims}", judged(record, verdict)))
    };
    let all = said.iter().map(|(who, _)| who.as_str()).chain([LEARNED, SIZE_UNKNOWN, ORACLE]);
    std::iter::once(first).chain(all.filter_map(line)).collect()
}

/// What each candidate holds most of, three of each.
fn marks(stage: &Stage, said: &[(String, Vec<Claim>)]) -> Vec<Mark> {
    let links = |claim: &Claim| {
        let first = claim.places.first();
        let first = first.map(|(region, _)| stage.atlas.means(region, claim.direction));
        first.into_iter().flatten().map(|link| stage.atlas.edge(link)).collect()
    };
    said.iter()
        .flat_map(|(who, claims)| {
            claims.iter().take(3).map(|claim| Mark { who: who.clone(), links: links(claim) })
        })
        .collect()
}
