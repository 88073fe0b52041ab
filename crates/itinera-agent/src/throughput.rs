//! Measures throughput within the bounds of an order that the service has signed. Packets without
//! the order's key are ignored.

use crate::host_facts::HostFactsSource;
use hmac::{Hmac, KeyInit, Mac};
use itinera_check::{Datagrams, Net};
use itinera_model::host_facts::{HostFacts, Medium};
use itinera_model::throughput::{By, Side, ThroughputOrder, ThroughputWord};
use itinera_model::unit::Micros;
use sha2::Sha256;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::time::{Instant, timeout};

/// How long one end waits for the other.
const PATIENCE: Duration = Duration::from_secs(20);
/// Between tries to reach a receiver that is not there yet.
const AGAIN: Duration = Duration::from_millis(500);
/// Bytes sent at a time by TCP, and of a packet's payload by UDP.
const CHUNK: usize = 32 * 1_024;
const PAYLOAD: usize = 1_200;
/// UDP is sent in bursts this far apart, so that a coarse timer keeps the rate.
const BURST: Duration = Duration::from_millis(5);
/// Bytes of an order's name, of a proof, and of a report.
const NAME: usize = 16;
const PROOF: usize = 32;
const REPORT: usize = 8 + 8 + 4 + PROOF;

/// What the receiver counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
struct Counted {
    bytes: u64,
    took_us: u64,
    packets: u32,
}

fn proof(key: &[u8; 32], what: &[u8], of: &[u8]) -> Hmac<Sha256> {
    #[allow(clippy::expect_used, reason = "a key of any length does for HMAC (RFC 2104)")]
    let mut mac = Hmac::<Sha256>::new_from_slice(key).expect("any length of key");
    mac.update(what);
    mac.update(of);
    mac
}

fn hello(order: &ThroughputOrder) -> Vec<u8> {
    let name = order.id.as_uuid().into_bytes();
    let proved = proof(&order.key, b"hello", &name).finalize().into_bytes();
    [&name[..], &proved[..]].concat()
}

fn is_hello(order: &ThroughputOrder, octets: &[u8]) -> bool {
    let Some((name, proved)) = octets.split_at_checked(NAME) else { return false };
    name == order.id.as_uuid().as_bytes()
        && proof(&order.key, b"hello", name).verify_slice(proved).is_ok()
}

fn report(order: &ThroughputOrder, counted: Counted) -> Vec<u8> {
    let mut octets = Vec::with_capacity(REPORT);
    octets.extend(counted.bytes.to_be_bytes());
    octets.extend(counted.took_us.to_be_bytes());
    octets.extend(counted.packets.to_be_bytes());
    let proved = proof(&order.key, b"report", &octets).finalize().into_bytes();
    octets.extend(&proved[..]);
    octets
}

fn read_report(order: &ThroughputOrder, octets: &[u8]) -> Option<Counted> {
    let (said, proved) = octets.split_at_checked(REPORT - PROOF)?;
    proof(&order.key, b"report", said).verify_slice(proved).ok()?;
    let (bytes, rest) = said.split_first_chunk::<8>()?;
    let (took_us, rest) = rest.split_first_chunk::<8>()?;
    let (packets, _) = rest.split_first_chunk::<4>()?;
    Some(Counted {
        bytes: u64::from_be_bytes(*bytes),
        took_us: u64::from_be_bytes(*took_us),
        packets: u32::from_be_bytes(*packets),
    })
}

/// Does this agent's part of an order; gives the report of the sender, and the bytes that its
/// interfaces carried during it.
///
/// # Cancel safety
/// When dropped, the run ends for both.
pub(crate) async fn run(
    net: &Net,
    host_facts: Option<&HostFactsSource>,
    order: &ThroughputOrder,
) -> Option<(ThroughputWord, Option<[u64; 2]>)> {
    let whole = PATIENCE + PATIENCE + Duration::from_secs(order.seconds.into());
    if order.side == Side::Receives {
        let received = match order.by {
            By::Tcp => timeout(whole, receive_stream(net, order)).await,
            By::Udp => timeout(whole, receive_packets(net, order)).await,
        };
        match received {
            Ok(Ok(())) => {}
            Ok(Err(error)) => tracing::warn!(%error, run = %order.id, "nothing was received"),
            Err(_) => tracing::warn!(run = %order.id, "the sender did not come"),
        }
        return None;
    }
    let before = carried(host_facts).await;
    let sent = match order.by {
        By::Tcp => timeout(whole, send_stream(net, order)).await,
        By::Udp => timeout(whole, send_packets(net, order)).await,
    };
    let after = carried(host_facts).await;
    let carried = before.zip(after).and_then(|(before, after)| {
        Some([after[0].checked_sub(before[0])?, after[1].checked_sub(before[1])?])
    });
    let word = match sent {
        Ok(Ok((sent_bytes, packets, counted))) => ThroughputWord::Measured {
            sent_bytes,
            received_bytes: counted.bytes.min(sent_bytes),
            took_us: Micros::new(u32::try_from(counted.took_us).unwrap_or(u32::MAX)),
            packets,
            lost: packets.saturating_sub(counted.packets),
        },
        Ok(Err(error)) => ThroughputWord::Failed(error.to_string().chars().take(100).collect()),
        Err(_) => ThroughputWord::Failed("the other end did not answer in time".to_owned()),
    };
    Some((word, carried))
}

async fn carried(host_facts: Option<&HostFactsSource>) -> Option<[u64; 2]> {
    let seen: HostFacts = host_facts?.read().await.ok()?;
    let outside = seen.interfaces.iter().filter(|one| one.medium != Medium::Loopback);
    let counters = outside.map(|one| one.counters);
    Some(counters.fold([0, 0], |[inward, out], c| [inward + c.rx_bytes, out + c.tx_bytes]))
}

fn micros(span: Duration) -> u64 {
    u64::try_from(span.as_micros()).unwrap_or(u64::MAX)
}

/// Sends by TCP until time or bytes are used up; gives what was sent and what arrived.
async fn send_stream(net: &Net, order: &ThroughputOrder) -> io::Result<(u64, u32, Counted)> {
    let there = SocketAddr::new(order.peer_address, order.port);
    let begun = Instant::now();
    let mut stream = loop {
        match net.connect(there).await {
            Ok(stream) => break stream,
            Err(error) if begun.elapsed() > PATIENCE => return Err(error),
            Err(_) => tokio::time::sleep(AGAIN).await,
        }
    };
    stream.write_all(&hello(order)).await?;
    let (chunk, until) =
        (vec![0; CHUNK], Instant::now() + Duration::from_secs(order.seconds.into()));
    let mut sent = 0u64;
    while sent < order.most_bytes {
        let left = usize::try_from(order.most_bytes - sent).unwrap_or(CHUNK).min(CHUNK);
        match tokio::time::timeout_at(until, stream.write(&chunk[..left])).await {
            Err(_) => break,
            Ok(wrote) => sent += wrote? as u64,
        }
    }
    stream.shutdown().await?;
    let counted = heard_report(&mut stream, order).await?;
    Ok((sent, 0, counted))
}

async fn heard_report(
    stream: &mut (impl AsyncRead + Unpin),
    order: &ThroughputOrder,
) -> io::Result<Counted> {
    let mut octets = [0; REPORT];
    let reading = timeout(PATIENCE, stream.read_exact(&mut octets)).await;
    reading.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))??;
    read_report(order, &octets).ok_or_else(|| io::ErrorKind::InvalidData.into())
}

/// Receives by TCP from the holder of the order's key; closes other connections.
async fn receive_stream(net: &Net, order: &ThroughputOrder) -> io::Result<()> {
    let mut door = net.listen(order.port).await?;
    loop {
        let (mut stream, from) = door.accept().await?;
        if from.is_some_and(|from| from != order.peer_address) {
            continue;
        }
        if let Ok(true) =
            timeout(PATIENCE, counted_stream(&mut stream, order)).await.unwrap_or(Ok(false))
        {
            return Ok(());
        }
    }
}

/// Counts what comes after a proof; false where there is none.
async fn counted_stream(
    stream: &mut (impl AsyncRead + AsyncWrite + Unpin),
    order: &ThroughputOrder,
) -> io::Result<bool> {
    let mut said = [0; NAME + PROOF];
    stream.read_exact(&mut said).await?;
    if !is_hello(order, &said) {
        return Ok(false);
    }
    let mut buffer = vec![0; CHUNK];
    let (mut counted, mut first) = (Counted::default(), None);
    let mut last = Instant::now();
    while counted.bytes <= order.most_bytes {
        let length = stream.read(&mut buffer).await?;
        if length == 0 {
            break;
        }
        last = Instant::now();
        first.get_or_insert(last);
        counted.bytes += length as u64;
    }
    counted.took_us = first.map_or(0, |first| micros(last - first));
    stream.write_all(&report(order, counted)).await?;
    stream.shutdown().await?;
    Ok(true)
}

/// Marks the last packets of a run by UDP.
const END: u32 = u32::MAX;

/// Sends packets at the order's rate; gives what was sent and what arrived.
async fn send_packets(net: &Net, order: &ThroughputOrder) -> io::Result<(u64, u32, Counted)> {
    let there = SocketAddr::new(order.peer_address, order.port);
    let door = net.datagrams(None, there.is_ipv6()).await?;
    let mut buffer = vec![0; PAYLOAD];
    // Until the receiver is there and knows this sender.
    let said = hello(order);
    let begun = Instant::now();
    loop {
        door.send_to(&said, there).await?;
        if let Some(octets) = answer(&door, there, &mut buffer, AGAIN).await
            && is_hello(order, octets)
        {
            break;
        }
        if begun.elapsed() > PATIENCE {
            return Err(io::ErrorKind::TimedOut.into());
        }
    }
    let (begun, span) = (Instant::now(), Duration::from_secs(order.seconds.into()));
    let mut packet = vec![0; PAYLOAD];
    let (mut number, mut sent) = (0u32, 0u64);
    while begun.elapsed() < span && sent < order.most_bytes {
        let due = u128::from(order.rate_bit_s) * begun.elapsed().as_micros() / 8_000_000;
        while u128::from(sent) < due && sent < order.most_bytes {
            packet[..4].copy_from_slice(&number.to_be_bytes());
            door.send_to(&packet, there).await?;
            number += 1;
            sent += PAYLOAD as u64;
        }
        tokio::time::sleep(BURST).await;
    }
    packet[..4].copy_from_slice(&END.to_be_bytes());
    let asked = Instant::now();
    while asked.elapsed() < PATIENCE {
        door.send_to(&packet[..NAME], there).await?;
        if let Some(octets) = answer(&door, there, &mut buffer, AGAIN).await
            && let Some(counted) = read_report(order, octets)
        {
            return Ok((sent, number, counted));
        }
    }
    Err(io::ErrorKind::TimedOut.into())
}

/// The next packet from there, within a while.
async fn answer<'a>(
    door: &Datagrams,
    there: SocketAddr,
    buffer: &'a mut [u8],
    wait: Duration,
) -> Option<&'a [u8]> {
    let listening = async {
        loop {
            match door.recv_from(buffer).await {
                Ok((length, from)) if from == there => return Some(length),
                Ok(_) => {}
                Err(_) => return None,
            }
        }
    };
    let length = timeout(wait, listening).await.ok().flatten()?;
    buffer.get(..length)
}

/// Counts packets of the holder of the order's key.
async fn receive_packets(net: &Net, order: &ThroughputOrder) -> io::Result<()> {
    let six = matches!(order.peer_address, IpAddr::V6(_));
    let door = net.datagrams(Some(order.port), six).await?;
    let mut buffer = vec![0; 2 * PAYLOAD];
    let mut peer = None;
    let (mut counted, mut first, mut last) = (Counted::default(), None, Instant::now());
    loop {
        let (length, from) = door.recv_from(&mut buffer).await?;
        let octets = &buffer[..length];
        if from.ip() != order.peer_address {
            continue;
        }
        if length == NAME + PROOF && is_hello(order, octets) {
            peer = Some(from);
            door.send_to(&hello(order), from).await?;
        } else if peer == Some(from)
            && let Some((number, _)) = octets.split_first_chunk::<4>()
        {
            if u32::from_be_bytes(*number) == END {
                // Sent again as often as it is asked for, for a limited time: reports get lost too.
                counted.took_us = first.map_or(0, |first| micros(last - first));
                door.send_to(&report(order, counted), from).await?;
                if last.elapsed() > Duration::from_secs(3) {
                    return Ok(());
                }
                continue;
            }
            if counted.bytes <= order.most_bytes {
                last = Instant::now();
                first.get_or_insert(last);
                counted.bytes += length as u64;
                counted.packets += 1;
            }
        }
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use itinera_model::id::{AgentId, ThroughputId};
    use itinera_model::unit::WallTime;
    use uuid::Uuid;

    pub(crate) fn order(side: Side, by: By, port: u16) -> ThroughputOrder {
        ThroughputOrder {
            id: ThroughputId::from_uuid(Uuid::from_u128(7)),
            holder: AgentId::from_uuid(Uuid::from_u128(1)),
            side,
            peer_address: [127, 0, 0, 1].into(),
            port,
            key: [3; 32],
            by,
            seconds: 1,
            most_bytes: 3_000_000,
            rate_bit_s: 8_000_000,
            not_after: WallTime::from_unix_seconds(4_000_000_000),
        }
    }

    async fn both(by: By, port: u16, other_key: bool) -> ThroughputWord {
        let net = Net::Kernel { source: None };
        let mut theirs = order(Side::Receives, by, port);
        if other_key {
            theirs.key = [4; 32];
        }
        let mine = order(Side::Sends, by, port);
        let receiving = {
            let net = net.clone();
            tokio::spawn(async move { run(&net, None, &theirs).await })
        };
        let sent = timeout(Duration::from_secs(30), run(&net, None, &mine)).await;
        receiving.abort();
        sent.unwrap().unwrap().0
    }

    #[tokio::test]
    async fn what_gets_through_is_counted_by_who_receives_it_within_bounds() {
        let ThroughputWord::Measured { sent_bytes, received_bytes, .. } =
            both(By::Tcp, 41_863, false).await
        else {
            panic!("loopback carries it");
        };
        assert_eq!((sent_bytes, received_bytes), (3_000_000, 3_000_000));
        let word = both(By::Udp, 41_864, false).await;
        let ThroughputWord::Measured { sent_bytes, packets, lost, .. } = word else {
            panic!("{word:?}");
        };
        assert!((600_000..=1_100_000).contains(&sent_bytes), "a second at 8 Mb/s: {word:?}");
        assert!(lost * 20 < packets, "{word:?}");
        assert!(word.rate_bit_s().unwrap() < 12_000_000, "{word:?}");
    }

    #[tokio::test]
    async fn a_sender_without_the_key_gets_no_answer() {
        let word = both(By::Tcp, 41_865, true).await;
        assert!(matches!(word, ThroughputWord::Failed(_)), "{word:?}");
        let (mine, forged) = (order(Side::Sends, By::Udp, 1), [9; REPORT]);
        assert_eq!(read_report(&mine, &forged), None);
        let counted = Counted { bytes: 5, took_us: 6, packets: 7 };
        let mut bytes = report(&mine, counted);
        assert_eq!(read_report(&mine, &bytes), Some(counted));
        for at in 0..bytes.len() {
            bytes[at] ^= 1;
            assert_eq!(read_report(&mine, &bytes), None, "an octet changed at {at}");
            bytes[at] ^= 1;
            assert_eq!(read_report(&mine, &bytes[..at]), None, "cut short at {at}");
        }
        assert!(is_hello(&mine, &hello(&mine)) && !is_hello(&mine, &hello(&mine)[1..]));
    }
}
