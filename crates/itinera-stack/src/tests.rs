//! Two hosts over channels.

use crate::Stack;
use std::io::ErrorKind;
use std::net::{IpAddr, SocketAddr};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::sync::mpsc;

/// Two hosts; of the first one's packets every `nth` is lost on the link, none where 0.
fn pair(nth: usize) -> (Stack, Stack, SocketAddr) {
    let (a, b): (IpAddr, IpAddr) = ([198, 18, 0, 1].into(), [198, 18, 0, 2].into());
    let (from_a, mut sent) = mpsc::channel::<Vec<u8>>(256);
    let (to_b, b_came) = mpsc::channel(256);
    let (to_a, a_came) = mpsc::channel(256);
    tokio::spawn(async move {
        let mut number = 0;
        while let Some(packet) = sent.recv().await {
            number += 1;
            if (nth == 0 || number % nth > 0) && to_b.send(packet).await.is_err() {
                return;
            }
        }
    });
    let first = Stack::new(vec![a], a_came, from_a, 7);
    let second = Stack::new(vec![b], b_came, to_a, 8);
    (first, second, SocketAddr::new(b, 80))
}

#[tokio::test]
async fn what_is_written_arrives_whole_though_packets_are_lost() {
    let (client, server, there) = pair(11);
    let mut listener = server.listen(80).unwrap();
    let sent: Vec<u8> = (0..30_000_u32).map(|n| u8::try_from(n % 251).unwrap()).collect();
    let copy = sent.clone();
    let serving = tokio::spawn(async move {
        let mut stream = listener.accept().await;
        let mut got = Vec::new();
        stream.read_to_end(&mut got).await.unwrap();
        got
    });
    let mut stream = client.connect(there).await.unwrap();
    stream.write_all(&copy).await.unwrap();
    stream.shutdown().await.unwrap();
    assert_eq!(serving.await.unwrap(), sent);
}

#[tokio::test]
async fn who_does_not_listen_refuses_and_who_aborts_resets() {
    let (client, server, there) = pair(0);
    let refused = client.connect(there).await.unwrap_err();
    assert_eq!(refused.kind(), ErrorKind::ConnectionRefused);
    let mut listener = server.listen(80).unwrap();
    assert_eq!(server.listen(80).unwrap_err().kind(), ErrorKind::AddrInUse);
    let mut stream = client.connect(there).await.unwrap();
    let accepted = listener.accept().await;
    assert_eq!(accepted.peer().ip(), IpAddr::from([198, 18, 0, 1]));
    accepted.abort();
    let error = stream.read_u8().await.unwrap_err();
    assert_eq!(error.kind(), ErrorKind::ConnectionReset);
    let six = "[2001:db8::1]:80".parse().unwrap();
    assert_eq!(client.connect(six).await.unwrap_err().kind(), ErrorKind::NetworkUnreachable);
}

#[tokio::test]
async fn many_connections_follow_each_other_and_datagrams_go_in_both_directions() {
    let (client, server, there) = pair(0);
    let mut listener = server.listen(80).unwrap();
    tokio::spawn(async move {
        loop {
            let mut stream = listener.accept().await;
            tokio::spawn(async move { stream.write_all(b"hello").await });
        }
    });
    for _ in 0..30 {
        let mut stream = client.connect(there).await.unwrap();
        let mut text = String::new();
        stream.read_to_string(&mut text).await.unwrap();
        assert_eq!(text, "hello");
    }
    let (ask, answer) = (client.datagrams(None).unwrap(), server.datagrams(Some(53)).unwrap());
    ask.send_to(b"who?", SocketAddr::new(there.ip(), 53)).await.unwrap();
    let mut buffer = [0; 64];
    let (length, from) = answer.recv_from(&mut buffer).await;
    assert_eq!(&buffer[..length], b"who?");
    answer.send_to(b"me", from).await.unwrap();
    let (length, from) = ask.recv_from(&mut buffer).await;
    assert_eq!((&buffer[..length], from), (&b"me"[..], SocketAddr::new(there.ip(), 53)));
}

#[tokio::test]
async fn a_burst_of_datagrams_waits_for_room_and_one_that_never_fits_is_refused() {
    let (client, server, there) = pair(0);
    let (ask, answer) = (client.datagrams(None).unwrap(), server.datagrams(Some(53)).unwrap());
    let to = SocketAddr::new(there.ip(), 53);
    let receiving = tokio::spawn(async move {
        let mut buffer = [0; 64];
        while answer.recv_from(&mut buffer).await.0 != 1 {}
    });
    // Many times what the send buffer holds, without a pause.
    for _ in 0..2_000 {
        ask.send_to(&[0; 2], to).await.unwrap();
    }
    while !receiving.is_finished() {
        ask.send_to(&[1], to).await.unwrap();
        tokio::task::yield_now().await;
    }
    receiving.await.unwrap();
    let error = ask.send_to(&vec![0; 1 << 20], to).await.unwrap_err();
    assert_eq!(error.kind(), ErrorKind::InvalidInput);
}
