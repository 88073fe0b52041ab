//! Names of targets and what they stand for, asked again and again.

use itinera_model::path::Family;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::Instant;

/// How often a name is asked for again.
const AGAIN: Duration = Duration::from_secs(60);
/// A resolver that does not answer for so long is said to fail.
const PATIENCE: Duration = Duration::from_secs(10);
/// Names at most, and questions that may wait.
const MAX_NAMES: usize = 1_000;

/// What asking for a name gave.
pub(crate) type Answer = (String, Result<Vec<IpAddr>, String>);

#[derive(Debug, Default)]
struct Name {
    addresses: Vec<IpAddr>,
    /// Why the last question gave nothing.
    failure: Option<String>,
    answered: bool,
    asked: Option<Instant>,
}

/// The names in use.
#[derive(Debug, Default)]
pub(crate) struct Names(BTreeMap<String, Name>);

impl Names {
    /// The address that a name stands for in a version of IP: the one in use for as long as the
    /// name gives it, else the first. Where the resolver fails, what it gave before holds on;
    /// where it never gave any, the reason. Nothing while it has not answered.
    pub(crate) fn known(&self, name: &str, family: Family) -> Option<Result<IpAddr, String>> {
        let known = self.0.get(name)?;
        let found = known.addresses.iter().find(|address| Family::of(**address) == family);
        let missing = || {
            let nothing = "it has no address of this version of IP";
            let reason = known.failure.as_deref().unwrap_or(nothing);
            format!("the name {name} does not resolve: {reason}")
        };
        known.answered.then(|| found.copied().ok_or_else(missing))
    }

    /// Keeps to these names, and queries those that are due; answers come by `answers`.
    pub(crate) fn ask<'a>(
        &mut self,
        names: impl Iterator<Item = &'a str>,
        answers: &mpsc::Sender<Answer>,
    ) {
        let mut before = std::mem::take(&mut self.0);
        for name in names.take(MAX_NAMES) {
            if !self.0.contains_key(name) {
                let known = before.remove(name).unwrap_or_default();
                self.0.insert(name.to_owned(), known);
            }
        }
        let now = Instant::now();
        for (name, known) in &mut self.0 {
            if known.asked.is_none_or(|asked| now - asked >= AGAIN) {
                known.asked = Some(now);
                tokio::spawn(resolve(name.clone(), answers.clone()));
            }
        }
    }

    /// Takes what asking gave.
    pub(crate) fn on_answer(&mut self, name: &str, answer: Result<Vec<IpAddr>, String>) {
        let known = self.0.entry(name.to_owned()).or_default();
        known.answered = true;
        match answer {
            Ok(mut addresses) => {
                // Balanced names give the same addresses in another order each time.
                let before = |address: &IpAddr| known.addresses.iter().position(|a| a == address);
                addresses.sort_by_key(|address| before(address).unwrap_or(usize::MAX));
                known.addresses = addresses;
                known.failure = None;
            }
            Err(reason) => known.failure = Some(reason),
        }
    }
}

async fn resolve(name: String, answers: mpsc::Sender<Answer>) {
    let ask = async {
        let found = tokio::net::lookup_host((name.as_str(), 0)).await?;
        std::io::Result::Ok(found.map(|socket| socket.ip()).collect())
    };
    let answer = match tokio::time::timeout(PATIENCE, ask).await {
        Ok(Ok(found)) => Ok(found),
        Ok(Err(error)) => Err(error.to_string().chars().take(100).collect()),
        Err(_) => Err(format!("no resolver has answered for {} s", PATIENCE.as_secs())),
    };
    let _nobody_asks_any_more = answers.send((name, answer)).await;
}

#[cfg(test)]
mod tests {
    use super::*;

    const FIRST: IpAddr = IpAddr::V4(std::net::Ipv4Addr::new(198, 18, 1, 1));
    const OTHER: IpAddr = IpAddr::V4(std::net::Ipv4Addr::new(198, 18, 1, 2));

    #[test]
    fn an_address_is_kept_while_the_name_gives_it_and_outlives_the_resolver() {
        let mut names = Names::default();
        let known = |names: &Names| names.known("a.example", Family::Ipv4);
        assert_eq!(known(&names), None);
        names.on_answer("a.example", Ok(vec![FIRST, OTHER]));
        names.on_answer("a.example", Ok(vec![OTHER, FIRST]));
        assert_eq!(known(&names), Some(Ok(FIRST)), "the order alone changes nothing");
        names.on_answer("a.example", Err("gone".to_owned()));
        assert_eq!(known(&names), Some(Ok(FIRST)), "without a resolver measuring continues");
        names.on_answer("a.example", Ok(vec![OTHER]));
        assert_eq!(known(&names), Some(Ok(OTHER)));
        let six = names.known("a.example", Family::Ipv6).unwrap().unwrap_err();
        assert!(six.contains("a.example") && six.contains("this version of IP"), "{six}");
    }

    #[tokio::test]
    async fn the_machines_resolver_is_asked_once_in_a_while() {
        let (answers, mut came) = mpsc::channel(10);
        let mut names = Names::default();
        for _ in 0..5 {
            names.ask(["localhost"].into_iter(), &answers);
        }
        let (name, answer) = came.recv().await.unwrap();
        names.on_answer(&name, answer);
        let found = names.known("localhost", Family::Ipv4).unwrap().unwrap();
        assert!(found.is_loopback());
        assert!(came.try_recv().is_err(), "asked once");
        names.ask(std::iter::empty(), &answers);
        assert_eq!(names.known("localhost", Family::Ipv4), None, "forgotten when not in use");
    }
}
