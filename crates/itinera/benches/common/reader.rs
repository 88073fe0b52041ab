//! A user who opens pages while the service has work, and when it is idle.

use crate::installation::Installation;
use crate::user::User;
use itinera_model::quantile::quantile;
use std::collections::BTreeMap;
use std::time::Duration;

/// Pauses of a user between requests: while the service judges, and when it is idle.
const BUSY_PAUSE: Duration = Duration::from_millis(400);
const IDLE_PAUSE: Duration = Duration::from_millis(50);

/// A user who opens pages.
pub(crate) struct Reader {
    user: User,
    /// What the pages ask for, each with a name.
    questions: Vec<(&'static str, String)>,
    waits: BTreeMap<&'static str, Vec<Duration>>,
}

impl Reader {
    pub(crate) async fn new(api: String, installation: &Installation) -> Self {
        let user = User::first(api, &installation.config.data).await;
        let path = installation.agents[0].1.1[0].path;
        let questions = vec![
            ("state", "status".to_owned()),
            ("paths", "paths".to_owned()),
            ("open alarms", "alarms?open=true".to_owned()),
            ("open incidents", "incidents?open=true".to_owned()),
            ("a path", format!("paths/{path}")),
            ("a path's history", format!("paths/{path}/history")),
        ];
        Self { user, questions, waits: BTreeMap::new() }
    }

    /// Asks everything once.
    async fn read(&mut self, pause: Duration) {
        for (name, question) in &self.questions {
            let wait = self.user.get(question).await;
            self.waits.entry(name).or_default().push(wait);
            tokio::time::sleep(pause).await;
        }
    }

    /// Asks until something is done.
    pub(crate) async fn read_while(&mut self, work: impl Future<Output = ()>) {
        tokio::pin!(work);
        loop {
            tokio::select! {
                () = &mut work => return,
                () = self.read(BUSY_PAUSE) => (),
            }
        }
    }

    /// Asks everything so often while the service is idle.
    pub(crate) async fn read_idle(&mut self, times: usize) {
        for _ in 0..times {
            self.read(IDLE_PAUSE).await;
        }
    }

    /// 95th percentiles of the requests so far in milliseconds, which are forgotten then, in the order of the
    /// questions; nothing where not all were asked.
    pub(crate) fn take_p95(&mut self) -> Option<Vec<f64>> {
        let p95 = |(name, _): &(&'static str, String)| {
            let mut waits = self.waits.remove(name)?;
            waits.sort_unstable();
            Some(quantile(&waits, 95, 100)?.as_secs_f64() * 1e3)
        };
        self.questions.iter().map(p95).collect()
    }

    /// Prints two series of percentiles and their ratios.
    pub(crate) fn compare(&self, what: &str, busy: Option<Vec<f64>>, idle: Option<Vec<f64>>) {
        let Some((busy, idle)) = busy.zip(idle) else {
            println!("pages were not all read");
            return;
        };
        println!("pages, p95 {what}");
        for (((name, _), busy), idle) in self.questions.iter().zip(busy).zip(idle) {
            println!("  {name:<18}{busy:>8.1} ms; {idle:>6.1} ms, {:.1} times", busy / idle);
        }
    }
}
