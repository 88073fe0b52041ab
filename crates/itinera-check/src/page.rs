//! A page with what it refers to: which parts are slow, and which fail.

use crate::web::{Answer, Endpoint};
use crate::{Asker, CheckProgress, since};
use html5ever::tokenizer::{
    BufferQueue, Tag, TagKind, Token, TokenSink, TokenSinkResult, Tokenizer, TokenizerOpts,
};
use http::Uri;
use itinera_model::check::{AskWeb, Fetched, Step, Why};
use itinera_model::unit::Micros;
use std::cell::RefCell;
use std::sync::Arc;
use std::time::Instant;
use tokio::sync::Semaphore;

/// Resources fetched at most, and at once.
const MAX_RESOURCES: usize = 40;
const AT_ONCE: usize = 6;
/// Bytes of a resource's path regarded at most.
const MAX_PATH: usize = 500;

impl Asker {
    /// Fetches what a page refers to on its own host, several at once as browsers do.
    pub(crate) async fn resources(
        &self,
        spot: &Endpoint,
        question: &AskWeb,
        page: &Answer,
        begun: Instant,
        course: &mut CheckProgress,
    ) {
        let text = String::from_utf8_lossy(&page.content);
        let room = Arc::new(Semaphore::new(AT_ONCE));
        let mut fetching = tokio::task::JoinSet::new();
        for (nth, path) in referred(&text, spot).into_iter().enumerate() {
            let (asker, room) = (self.clone(), Arc::clone(&room));
            let spot = Endpoint { path, ..spot.clone() };
            let question = AskWeb {
                content: true,
                resources: false,
                status: None,
                words: None,
                ..question.clone()
            };
            fetching.spawn(async move {
                let _turn = room.acquire().await;
                (nth, asker.one(spot, &question, begun).await)
            });
        }
        let mut fetched = fetching.join_all().await;
        fetched.sort_by_key(|(nth, _)| *nth);
        if let Some(web) = &mut course.seen.web {
            web.resources = fetched.into_iter().map(|(_, one)| one).collect();
        }
    }

    async fn one(&self, spot: Endpoint, question: &AskWeb, page_begun: Instant) -> Fetched {
        let begun_us = since(page_begun);
        let begun = Instant::now();
        let mut course = CheckProgress::new();
        let asked = self.fetch(&spot, question, &mut course);
        let outcome = match tokio::time::timeout(self.patience.whole, asked).await {
            Ok(outcome) => outcome,
            Err(_) => Err((Step::Transfer, Why::Unfinished)),
        };
        let mut fetched = Fetched {
            path: spot.path,
            begun_us,
            first_byte_us: None,
            took_us: since(begun),
            size_bytes: 0,
            status: None,
            why: None,
        };
        match outcome {
            Ok((answer, _)) => {
                let before: u32 = course
                    .phases
                    .iter()
                    .filter(|phase| phase.step < Step::FirstByte)
                    .map(|phase| phase.took_us.as_micros())
                    .sum();
                let first = answer.first_byte_us.as_micros().saturating_add(before);
                fetched.first_byte_us = Some(Micros::new(first));
                fetched.size_bytes = answer.content.len() as u64;
                fetched.status = Some(answer.status.as_u16());
                if !(answer.status.is_success() || answer.status.is_redirection()) {
                    fetched.why = Some(Why::Status);
                }
            }
            Err((_, why)) => fetched.why = Some(why),
        }
        fetched
    }
}

/// Paths on the page's own host that it refers to, each once, in the order of its text.
fn referred(text: &str, spot: &Endpoint) -> Vec<String> {
    let sink = Referred { found: RefCell::new(Vec::new()), spot };
    let queue = BufferQueue::default();
    queue.push_back(text.into());
    let tokenizer = Tokenizer::new(sink, TokenizerOpts::default());
    let _scripts_are_not_run = tokenizer.feed(&queue);
    tokenizer.end();
    tokenizer.sink.found.into_inner()
}

struct Referred<'a> {
    found: RefCell<Vec<String>>,
    spot: &'a Endpoint,
}

impl Referred<'_> {
    fn regard(&self, tag: &Tag) {
        let value = |wanted: &str| {
            let found = tag.attrs.iter().find(|one| &*one.name.local == wanted);
            found.map(|one| one.value.to_string())
        };
        let link = match &*tag.name {
            "img" | "script" | "source" | "iframe" | "embed" => value("src"),
            "link" if value("rel").is_some_and(|rel| fetched_by(&rel)) => value("href"),
            _ => None,
        };
        let Some(path) = link.and_then(|link| self.path(&link)) else { return };
        let mut found = self.found.borrow_mut();
        if found.len() < MAX_RESOURCES && !found.contains(&path) {
            found.push(path);
        }
    }

    /// The path on our own host that a reference means (RFC 3986 section 5.2, without dots).
    fn path(&self, link: &str) -> Option<String> {
        let link = link.trim().split('#').next().filter(|link| !link.is_empty())?;
        if link.len() > MAX_PATH {
            return None;
        }
        let absolute = link.parse::<Uri>().ok().filter(|uri| uri.scheme().is_some());
        if let Some(uri) = absolute {
            let scheme = if self.spot.tls { "https" } else { "http" };
            let own = uri.authority().is_some_and(|own| own.as_str() == self.spot.authority);
            let own = own && uri.scheme_str().is_none_or(|said| said == scheme);
            return own.then(|| uri.path_and_query().map_or("/", |path| path.as_str()).to_owned());
        }
        if link.starts_with("//") || link.contains(':') {
            return None;
        }
        let path = if link.starts_with('/') {
            link.to_owned()
        } else {
            let base = self.spot.path.split('?').next().unwrap_or("/");
            let folder = base.rsplit_once('/').map_or("", |(folder, _)| folder);
            format!("{folder}/{link}")
        };
        path.parse::<Uri>().ok().map(|_| path)
    }
}

/// Kinds of links that browsers fetch by themselves.
fn fetched_by(rel: &str) -> bool {
    rel.split_ascii_whitespace().any(|rel| {
        ["stylesheet", "icon", "preload", "modulepreload", "manifest"]
            .iter()
            .any(|known| rel.eq_ignore_ascii_case(known))
    })
}

impl TokenSink for Referred<'_> {
    type Handle = ();

    fn process_token(&self, token: Token, _line: u64) -> TokenSinkResult<()> {
        if let Token::TagToken(tag) = &token
            && tag.kind == TagKind::StartTag
        {
            self.regard(tag);
        }
        TokenSinkResult::Continue
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn spot() -> Endpoint {
        Endpoint {
            tls: true,
            authority: "weather.corriven.example".to_owned(),
            name: None,
            there: "198.18.80.200:443".parse().unwrap(),
            path: "/charts/today?x=1".to_owned(),
        }
    }

    #[test]
    fn own_resources_are_found_once_and_in_order() {
        let text = r#"<!doctype html><link rel="Stylesheet" href="/a.css"><link rel=next href=/n>
            <img src='big.png'><img src="big.png"><script src="//cdn.example/x.js"></script>
            <script src="https://weather.corriven.example/b.js?v=2#top"></script>
            <img src="https://other.example/c.png"><img src="data:image/png;base64,AA=="><img src="">"#;
        assert_eq!(referred(text, &spot()), ["/a.css", "/charts/big.png", "/b.js?v=2"]);
    }

    proptest! {
        /// Pages are foreign: any text gives a bounded list of paths that can be asked for.
        #[test]
        fn any_text_is_read_calmly(text in "(<(img|script|link)( [a-z]{1,4}(=.{0,9})?){0,3}>?|.{0,9}){0,40}") {
            for path in referred(&text, &spot()) {
                prop_assert!(path.starts_with('/') && path.parse::<Uri>().is_ok());
            }
        }
    }
}
