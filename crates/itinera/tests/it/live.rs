//! The stream of news: resumed by number without a gap, honest about what it has forgotten.

use crate::support::Service;
use eventsource_stream::{Event, Eventsource};
use futures_util::{Stream, StreamExt};
use itinera_agent::Exchange;
use serde_json::{Value, json};
use std::time::Duration;

struct Change<'a> {
    service: &'a Service,
    client: reqwest::Client,
    token: String,
}

impl<'a> Change<'a> {
    fn of(service: &'a Service) -> Self {
        let _installed_before = rustls::crypto::ring::default_provider().install_default();
        let client = reqwest::Client::builder().no_proxy().build().unwrap();
        let token = std::fs::read_to_string(service.token()).unwrap();
        Self { service, client, token }
    }

    async fn stream(&self, last: Option<&str>) -> impl Stream<Item = Event> + use<> {
        let url = format!("{}/api/v1/live", self.service.api());
        let mut request = self.client.get(url).bearer_auth(&self.token);
        if let Some(last) = last {
            request = request.header("last-event-id", last);
        }
        let response = request.send().await.unwrap();
        assert_eq!(response.headers()["content-type"], "text/event-stream");
        response.bytes_stream().eventsource().map(Result::unwrap)
    }

    async fn post(&self, place: &str, body: Value) -> Value {
        let url = format!("{}/api/v1{place}", self.service.api());
        let request = self.client.post(url).bearer_auth(&self.token).json(&body);
        request.send().await.unwrap().json().await.unwrap()
    }
}

async fn next(stream: &mut (impl Stream<Item = Event> + Unpin)) -> Event {
    let news = tokio::time::timeout(Duration::from_secs(20), stream.next()).await;
    news.expect("news in time").expect("the stream continues")
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn news_comes_at_once_and_is_resumed_where_it_was_left() {
    let service = tokio::task::block_in_place(Service::start);
    let news = Change::of(&service);
    // An agent that has asked for its schedule has paths to complain of.
    let identity = service.join("Carrock Pier", "agent").await;
    Exchange::of(&identity).unwrap().schedule(0, &[]).await.unwrap();
    let complaint = json!({ "site": "Carrock Pier", "service": "Crew Mail", "words": "slow" });
    let incident = news.post("/incidents", complaint).await;
    assert_eq!(incident["message"]["code"], "complaint-not-measured", "{incident}");
    let notes = format!("/incidents/{}/notes", incident["id"].as_str().unwrap());

    let mut first = Box::pin(news.stream(None).await);
    let here = next(&mut first).await;
    assert_eq!(here.event, "here");
    news.post(&notes, json!({ "text": "first" })).await;
    let told = next(&mut first).await;
    assert_eq!((told.event.as_str(), told.data.contains("note")), ("incident", true), "{told:?}");
    let number = |event: &Event| event.id.parse::<i64>().unwrap();
    assert_eq!(number(&told), number(&here) + 1);
    drop(first);

    for text in ["second", "third", "fourth"] {
        news.post(&notes, json!({ "text": text })).await;
    }
    let mut resumed = Box::pin(news.stream(Some(&told.id)).await);
    for step in 1..=3 {
        let event = next(&mut resumed).await;
        assert_eq!((event.event.as_str(), number(&event)), ("incident", number(&told) + step));
    }

    // A number from another record: everything has to be looked at again.
    let mut stranger = Box::pin(news.stream(Some("999999")).await);
    let missed = next(&mut stranger).await;
    assert_eq!((missed.event.as_str(), number(&missed)), ("missed", number(&told) + 3));

    // Who may look no longer is let go: a stream is no route to stay.
    let made = news.post("/tokens", json!({ "name": "screen", "role": "viewer" })).await;
    let screen =
        Change { token: made["token"].as_str().unwrap().to_owned(), ..Change::of(&service) };
    let mut held = Box::pin(screen.stream(None).await);
    assert_eq!(next(&mut held).await.event, "here");
    let revoke = format!("{}/api/v1/tokens/{}", service.api(), made["id"].as_str().unwrap());
    let revoked = news.client.delete(revoke).bearer_auth(&news.token).send().await.unwrap();
    assert!(revoked.status().is_success(), "{revoked:?}");
    let ended = async { while held.next().await.is_some() {} };
    tokio::time::timeout(Duration::from_secs(60), ended).await.expect("the stream ends");
}
