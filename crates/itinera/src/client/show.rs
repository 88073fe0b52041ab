//! Tables for users.

use super::view::{
    Agents, Alarm, Earlier, Handling, Hop, Import, JoinCode, Latest, Message, Owner, Path,
    PathDetail, Rebuilding, State,
};
use crate::exit::Failure;
use crate::output::{Output, plain};
use itinera_model::alarm::AlarmState;
use itinera_model::triage::OperatorState;
use serde_json::Value;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

pub(crate) const ABSENT: &str = "-";

/// A time as UTC, to the second.
pub(crate) fn utc(at: OffsetDateTime) -> String {
    let at = at.to_offset(time::UtcOffset::UTC);
    let (date, clock) = (at.date(), at.time());
    format!("{date} {:02}:{:02}:{:02}Z", clock.hour(), clock.minute(), clock.second())
}

fn ago(at: OffsetDateTime) -> String {
    let seconds = (OffsetDateTime::now_utc() - at).whole_seconds().max(0);
    match seconds {
        0..120 => format!("{seconds} s ago"),
        120..7_200 => format!("{} min ago", seconds / 60),
        _ => utc(at),
    }
}

pub(crate) fn ms(us: u32) -> String {
    format!("{:.1} ms", f64::from(us) / 1_000.0)
}

pub(crate) fn per_cent(ratio: f64) -> String {
    format!("{:.0} %", ratio * 100.0)
}

/// A limit as it was set, to a thousandth of a per cent.
pub(super) fn limit_share(ratio: f64) -> String {
    format!("{} %", (ratio * 1e5).round() / 1e3)
}

/// A ratio of loss, to a tenth of a per cent.
pub(super) fn loss_of(ratio: &Value) -> String {
    or_absent(ratio.as_f64(), |ratio| format!("{:.1} %", ratio * 100.0))
}

/// The elements of an array; none where it is absent.
pub(super) fn list(value: &Value) -> &[Value] {
    value.as_array().map(Vec::as_slice).unwrap_or_default()
}

pub(crate) fn or_absent<T>(value: Option<T>, show: impl FnOnce(T) -> String) -> String {
    value.map_or_else(|| ABSENT.to_owned(), show)
}

/// The end of an id: its random part, which tells paths made at one time apart.
fn short(id: &str) -> String {
    id.get(id.len().saturating_sub(8)..).unwrap_or(id).to_owned()
}

fn owners(owners: &[Owner]) -> String {
    match owners {
        [] => "owner unknown".to_owned(),
        [one] => one.name.clone(),
        many => many.iter().map(|owner| owner.name.as_str()).collect::<Vec<_>>().join(" / "),
    }
}

pub(super) fn status(output: &Output, state: &State) -> Result<(), Failure> {
    output.sentence(&state.sentence, "")?;
    output.line("")?;
    let late =
        if state.agents_late > 0 { format!(", {} late", state.agents_late) } else { String::new() };
    let quiet = if state.paths_without_rounds > 0 {
        format!(", {} without rounds for two minutes", state.paths_without_rounds)
    } else {
        String::new()
    };
    output.line(&format!("agents     {}{late}", state.agents))?;
    output.line(&format!("paths      {}{quiet}", state.paths))?;
    output.line(&format!("alarms     {} open", state.open_alarms))?;
    output.line(&format!(
        "rounds     {}, {} commits not judged yet",
        state.rounds, state.unjudged_commits
    ))?;
    if state.set_aside_commits > 0 {
        output.line(&format!(
            "set aside  {} not judged, because judgement failed; see `itinera set-aside list`",
            state.set_aside_commits
        ))?;
    }
    if state.late_deliveries > 0 {
        output.line(&format!(
            "notices    {} late or not delivered; see `itinera notices list`",
            state.late_deliveries
        ))?;
    }
    if let Some(Rebuilding { stage, done, paths }) = &state.rebuilding {
        output.line(&format!(
            "judgement  rebuilding its {} by a new version: {done} of {paths} paths done",
            plain(stage)
        ))?;
    }
    if let Some(note) = state.disk.as_ref().and_then(|disk| disk["text"].as_str()) {
        output.line(&format!("disk       {}", plain(note)))?;
    }
    match &state.owner_map {
        Some(map) => {
            output.line(&format!("owner map  {}, {} prefixes", plain(&map.source), map.entries))
        }
        None => output.line("owner map  none; import one with `itinera owners import FILE`"),
    }
}

pub(super) fn agents(output: &Output, agents: &Agents) -> Result<(), Failure> {
    if agents.items.is_empty() {
        return output
            .line("No agent has joined. Make a code with `itinera join-code --site NAME`.");
    }
    let rows = agents.items.iter().map(|agent| {
        let clock = agent.clock_offset_us.zip(agent.clock_error_us).map(|(offset, error)| {
            let ms = |us: i64| f64::from(i32::try_from(us).unwrap_or(i32::MAX)) / 1_000.0;
            format!("{:+.1} ms ±{:.1}", -ms(offset), ms(error))
        });
        vec![
            agent.site.clone(),
            or_absent(agent.last_batch_at, ago),
            or_absent(clock, |clock| clock),
            agent.dropped_rounds.to_string(),
            agent.refused.len().to_string(),
            agent.version.clone(),
            agent.id.clone(),
        ]
    });
    output.table(
        &[
            "site",
            "last batch",
            "clock ahead by",
            "rounds dropped",
            "tasks refused",
            "version",
            "agent",
        ],
        rows.collect(),
    )
}

/// How a path is probed: method and version of IP.
fn by(path: &Path) -> String {
    let version = if path.family == "ipv6" { "IPv6" } else { "IPv4" };
    format!("{}, {version}", path.method)
}

pub(super) fn paths(output: &Output, paths: &[Path]) -> Result<(), Failure> {
    if paths.is_empty() {
        return output
            .line("No paths yet: they are made when an agent joins and targets are configured.");
    }
    let rows = paths.iter().map(|path| {
        let latest = path.latest.as_ref();
        let came_back = |l: &Latest| format!("{} of {}", l.end_sent - l.end_lost, l.end_sent);
        vec![
            short(&path.id),
            path.site.clone(),
            path.target.clone(),
            by(path),
            or_absent(latest, |l| l.hops.to_string()),
            or_absent(latest, came_back),
            or_absent(latest.and_then(|l| l.end_delay_us), ms),
            latest
                .and_then(|l| l.finding.as_ref())
                .map_or_else(String::new, |finding| finding.message.headline.clone()),
        ]
    });
    output.table(
        &["path", "from", "to", "probes", "hops", "answered", "delay", "finding"],
        rows.collect(),
    )
}

pub(super) fn path(output: &Output, detail: &PathDetail) -> Result<(), Failure> {
    let path = &detail.path;
    output.line(&plain(&format!(
        "{} to {} ({}), {}, {} bytes",
        path.site,
        path.target,
        path.address,
        by(path),
        path.size_bytes
    )))?;
    let Some(latest) = &path.latest else {
        return meaning(output, detail);
    };
    output.line(&format!(
        "{} rounds in the {} s until {}",
        latest.rounds,
        latest.span_s,
        utc(latest.until)
    ))?;
    output.line("")?;
    meaning(output, detail)?;
    output.line("")?;
    output.table(
        &[
            "hop",
            "owner",
            "address",
            "got here",
            "answered (95 % interval)",
            "delay (quartiles)",
            "above usual",
            "verdict",
        ],
        detail.hops.iter().map(hop_row).collect(),
    )?;
    let Some(finding) = &latest.finding else {
        return Ok(());
    };
    output.line("")?;
    output.line(&format!(
        "Explanations (confidence {} in the first):",
        per_cent(finding.confidence.min(0.99))
    ))?;
    let rows = finding.explanations.iter().filter(|e| e.probability >= 0.0005).map(|e| {
        vec![
            format!("{:.1} %", e.probability.min(0.999) * 100.0),
            e.cause.clone(),
            e.place.text.clone(),
            owners(&e.place.owners),
        ]
    });
    output.table(&["probability", "cause", "place", "owner"], rows.collect())
}

/// What the newest judgement of a path says, and what the answers of its hops said.
fn meaning(output: &Output, detail: &PathDetail) -> Result<(), Failure> {
    if let Some(first) = detail.messages.first() {
        words(output, first)?;
    }
    for message in detail.messages.iter().skip(1) {
        message.detail.iter().try_for_each(|line| output.sentence(line, ""))?;
    }
    detail.notes.iter().try_for_each(|note| output.sentence(&note.text, ""))
}

/// A message: its headline, then its detail and contact line.
fn words(output: &Output, message: &Message) -> Result<(), Failure> {
    output.sentence(&message.headline, "")?;
    let rest = message.detail.iter().chain(&message.contact);
    rest.into_iter().try_for_each(|line| output.sentence(line, "  "))
}

/// A message of a JSON answer.
pub(super) fn message_of(output: &Output, message: &Value) -> Result<(), Failure> {
    words(output, &super::view::read(message.clone())?)
}

/// Answers of probes with the 95 % interval of that share.
fn answered(hop: &Hop) -> String {
    let interval = hop.loss_low_ratio.zip(hop.loss_high_ratio).map_or_else(String::new, |it| {
        format!(" ({:.0}–{})", (1.0 - it.1) * 100.0, per_cent(1.0 - it.0))
    });
    format!("{} of {}{interval}", hop.sent - hop.lost, hop.sent)
}

fn hop_row(hop: &Hop) -> Vec<String> {
    let owner = match &hop.owner {
        Some(owner) => owner.name.clone(),
        None if hop.private => "(the site's own)".to_owned(),
        None => ABSENT.to_owned(),
    };
    let delay = hop.delay_us.map(|us| delay_words(us, hop.delay_low_us.zip(hop.delay_high_us)));
    let above = hop
        .delay_us
        .zip(hop.usual_delay_us)
        .map(|(now, usual)| f64::from(now) - f64::from(usual))
        .map(|us| {
            if us.abs() < 50.0 { "0.0 ms".to_owned() } else { format!("{:+.1} ms", us / 1_000.0) }
        });
    vec![
        hop.hop.to_string(),
        owner,
        or_absent(hop.address.clone(), |address| address),
        or_absent(hop.got_here_ratio, per_cent),
        answered(hop),
        or_absent(delay, |delay| delay),
        or_absent(above, |above| above),
        means(&hop.verdict).to_owned(),
    ]
}

/// A median with its quartiles.
pub(crate) fn delay_words(median_us: u32, half: Option<(u32, u32)>) -> String {
    let number = |us: u32| format!("{:.1}", f64::from(us) / 1_000.0);
    let half = half.map(|(low, high)| format!(" ({} to {})", number(low), number(high)));
    format!("{}{}", ms(median_us), half.unwrap_or_default())
}

/// What a verdict on a hop means.
pub(crate) fn means(verdict: &str) -> &str {
    match verdict {
        "clean" => "",
        "silent" => "silent; traffic passes",
        "rate-limits" => "rate-limits its answers; traffic passes",
        "onset" => "loss or delay begins at this hop",
        "carries" => "has the fault",
        "unanswered" => "no answer from here on",
        other => other,
    }
}

/// When something began and how long it lasts or lasted.
pub(super) fn span(since: OffsetDateTime, until: Option<OffsetDateTime>) -> String {
    let seconds = (until.unwrap_or_else(OffsetDateTime::now_utc) - since).whole_seconds().max(0);
    let lasting = match seconds {
        0..120 => format!("{seconds} s"),
        120..7_200 => format!("{} min", seconds / 60),
        7_200..172_800 => format!("{} h", seconds / 3_600),
        _ => format!("{} days", seconds / 86_400),
    };
    let open = if until.is_none() { " until now" } else { "" };
    format!("{}, {lasting}{open}", utc(since))
}

/// Sites or services in a line: names, or a count where there are many.
pub(super) fn names(all: &[String], what: &str) -> String {
    match all {
        [] => String::new(),
        few if few.len() <= 3 => format!("; {}", few.join(", ")),
        many => format!("; {} {what}", many.len()),
    }
}

/// What the span of an alarm does not show.
fn state_words(alarm: &Alarm) -> String {
    let again = match alarm.times_raised {
        0 | 1 => String::new(),
        times => format!("; raised {times} times"),
    };
    let state = match alarm.state {
        AlarmState::Open | AlarmState::Cleared => String::new(),
        AlarmState::Expired => "; expired without data".to_owned(),
        AlarmState::RecordedLate => "; recorded from late measurements".to_owned(),
        AlarmState::NoData => {
            let since = or_absent(alarm.no_data_since, utc);
            let silent = &alarm.silent_sites;
            let agents = if silent.len() == 1 { "agent reports" } else { "agents report" };
            let reason = match silent.is_empty() {
                true => String::new(),
                false => format!(" ({}: {agents} nothing)", silent.join(", ")),
            };
            format!("; no data since {since}{reason}")
        }
    };
    format!("{again}{state}{}", handling_words(&alarm.handling))
}

/// Who has an alarm, and what was done with it.
fn handling_words(handling: &Handling) -> String {
    let by = |user: &Option<String>| or_absent(user.as_ref(), |user| format!("by {user}"));
    let state = match handling.state {
        OperatorState::None => String::new(),
        OperatorState::Ack => format!("; acknowledged {}", by(&handling.acknowledged_by)),
        OperatorState::Shelved => {
            format!("; shelved until {}", or_absent(handling.shelved_until, utc))
        }
        OperatorState::Closed => format!("; closed {}", by(&handling.closed_by)),
    };
    let assignee = handling.assignee.as_ref();
    let assigned = assignee.map_or_else(String::new, |user| format!("; assigned to {user}"));
    format!("{state}{assigned}")
}

pub(super) fn alarms(output: &Output, alarms: &[Alarm], open: bool) -> Result<(), Failure> {
    if alarms.is_empty() {
        let text = if open { "No alarm is open." } else { "No alarms." };
        return output.line(text);
    }
    for alarm in alarms {
        let incident = alarm.incident_no.map_or_else(String::new, |no| format!("; incident {no}"));
        let paths = match alarm.paths.len() {
            0 => String::new(),
            1 => "; 1 path".to_owned(),
            many => format!("; {many} paths"),
        };
        output.entry(
            &format!(
                "{:<4}  {:<8}  {}",
                alarm.no, alarm.perceived_severity, alarm.message.headline
            ),
            &format!(
                "{}{}{}{paths}{incident}",
                span(alarm.since, alarm.cleared_at),
                state_words(alarm),
                names(&alarm.sites, "sites")
            ),
        )?;
    }
    Ok(())
}

pub(super) fn alarm(output: &Output, alarm: &Alarm) -> Result<(), Failure> {
    output.line(&format!(
        "Alarm {}, {}, {}{}",
        alarm.no,
        alarm.perceived_severity,
        span(alarm.since, alarm.cleared_at),
        state_words(alarm)
    ))?;
    output.line("")?;
    words(output, &alarm.message)?;
    output.line("")?;
    let listed = |all: &[String]| if all.is_empty() { ABSENT.to_owned() } else { all.join(", ") };
    output.sentence(&format!("sites     {}", listed(&alarm.sites)), "")?;
    output.sentence(&format!("services  {}", listed(&alarm.services)), "")?;
    for (nth, holder) in alarm.contract_holders.iter().enumerate() {
        let label = if nth == 0 { "contract" } else { "" };
        let (name, contact, sites) = (&holder.name, &holder.contact, holder.sites.join(", "));
        output.sentence(&format!("{label:8}  {name}, {contact}, for {sites}"), "")?;
    }
    alarm.earlier.as_ref().map_or(Ok(()), |it| earlier(output, it))?;
    rules_of(output, alarm)?;
    output.line(&format!("paths     {}", alarm.paths.len()))?;
    output.line(&format!("incident  {}", or_absent(alarm.incident_no, |no| no.to_string())))?;
    // The first state alone is when it was raised.
    let history = alarm.history.iter().filter(|_| alarm.history.len() > 1);
    for (nth, change) in history.enumerate() {
        let label = if nth == 0 { "history" } else { "" };
        let severity = change.perceived_severity.as_ref().filter(|_| !change.state.is_over());
        let severity = severity.map_or_else(String::new, |severity| format!(", {severity}"));
        let state = state_name(change.state);
        output.line(&format!("{label:8}  {}  {state}{severity}", utc(change.at)))?;
    }
    for (nth, done) in alarm.actions.iter().enumerate() {
        let label = if nth == 0 { "actions" } else { "" };
        output.line(&format!("{label:8}  {}  {}", utc(done.at), plain(&done.words)))?;
    }
    Ok(())
}

/// The limit of an alarm, and the rules that decide it and the severity.
fn rules_of(output: &Output, alarm: &Alarm) -> Result<(), Failure> {
    let rule = alarm.limits_by.as_ref();
    let by = rule.map_or_else(|| "as configured".to_owned(), |rule| format!("rule {rule:?}"));
    let loss = alarm.limit_loss_ratio.map(|ratio| format!("{} loss", limit_share(ratio)));
    let delay = alarm.limit_added_delay_us.map(|us| format!("{} added delay", ms(us)));
    if let Some(limit) = loss.or(delay) {
        output.sentence(&format!("limit     {limit}, {by}"), "")?;
    }
    if let (Some(rule), Some(figures)) = (&alarm.severity_by, &alarm.severity_by_figures) {
        let severity = &alarm.perceived_severity;
        output.sentence(
            &format!("severity  {severity} by rule {rule:?}, {figures} by figures"),
            "",
        )?;
    }
    Ok(())
}

/// Earlier alarms of the same cause at the same place, with what was written when they were closed.
fn earlier(output: &Output, earlier: &Earlier) -> Result<(), Failure> {
    let Earlier { count, last } = earlier;
    match count {
        0 => output.line("earlier   none of this cause at this place")?,
        1 => output.line("earlier   1 of this cause at this place")?,
        _ => output.line(&format!("earlier   {count} of this cause at this place"))?,
    }
    for alarm in last {
        let closing = alarm.closing.as_ref().map(|text| format!(": {text}")).unwrap_or_default();
        let when = span(alarm.raised_at, alarm.cleared_at);
        output.sentence(&format!("          alarm {}, {when}{closing}", alarm.no), "")?;
    }
    Ok(())
}

const fn state_name(state: AlarmState) -> &'static str {
    match state {
        AlarmState::Open => "open",
        AlarmState::NoData => "no data",
        AlarmState::Cleared => "cleared",
        AlarmState::Expired => "expired without data",
        AlarmState::RecordedLate => "recorded from late measurements",
    }
}

/// A time of a JSON record as UTC, to the second.
pub(super) fn utc_of(value: &Value) -> String {
    let at = value.as_str().and_then(|text| OffsetDateTime::parse(text, &Rfc3339).ok());
    or_absent(at, utc)
}

/// A delay in microseconds, in milliseconds.
pub(super) fn ms_of(value: &Value) -> String {
    or_absent(value.as_u64(), |us| {
        let tenths = us.saturating_add(50) / 100;
        format!("{}.{}", tenths / 10, tenths % 10)
    })
}

/// The texts of a list.
pub(super) fn names_of(value: &Value) -> Vec<String> {
    let names = value.as_array().into_iter().flatten().filter_map(Value::as_str);
    names.map(str::to_owned).collect()
}

pub(super) fn text_of(value: &Value) -> String {
    value.as_str().unwrap_or(ABSENT).to_owned()
}

pub(super) fn tokens(output: &Output, items: &Value) -> Result<(), Failure> {
    let rows: Vec<Vec<String>> = items
        .as_array()
        .into_iter()
        .flatten()
        .map(|token| {
            let state = match &token["revoked_at"] {
                Value::Null => format!("until {}", utc_of(&token["expires_at"])),
                at => format!("revoked {}", utc_of(at)),
            };
            let used = utc_of(&token["used_at"]);
            let words = ["user", "name", "role"].map(|field| text_of(&token[field]));
            words.into_iter().chain([state, used, text_of(&token["id"])]).collect()
        })
        .collect();
    if rows.is_empty() {
        return output.line("There are no tokens. Make one with `itinera tokens make NAME`.");
    }
    output.table(&["user", "for", "role", "opens", "last used", "token"], rows)
}

pub(super) fn users(output: &Output, items: &Value) -> Result<(), Failure> {
    let rows = items.as_array().into_iter().flatten().map(|user| {
        let may = if user["active"] == true { "may sign in" } else { "may not sign in" };
        let since = utc_of(&user["created_at"]);
        vec![text_of(&user["name"]), text_of(&user["role"]), may.to_owned(), since]
    });
    output.table(&["name", "role", "state", "added"], rows.collect())
}

pub(super) fn audit(output: &Output, items: &Value) -> Result<(), Failure> {
    let rows = items.as_array().into_iter().flatten().map(|entry| {
        let words = ["user", "action", "object"].map(|field| text_of(&entry[field]));
        std::iter::once(utc_of(&entry["at"])).chain(words).collect()
    });
    output.table(&["at", "who", "did", "to what"], rows.collect())
}

pub(super) fn import(output: &Output, import: &Import) -> Result<(), Failure> {
    output.line(&format!("{} lines imported, {} not.", import.accepted, import.refused))?;
    import
        .refused_lines
        .iter()
        .try_for_each(|line| output.line(&plain(&format!("  line {}: {}", line.line, line.reason))))
}

pub(super) fn join_code(output: &Output, code: &JoinCode) -> Result<(), Failure> {
    output.line(&format!(
        "{}\n\nOpens once, until {}, for an agent at {}:\n  itinera agent join CODE --service https://SERVICE:7481",
        plain(&code.code),
        utc(code.expires_at),
        plain(&code.site)
    ))
}
