//! A syslog collector: datagrams (RFC 5426), and messages with a byte count over TCP (RFC 6587).

use super::{Inbox, Received};
use std::io;
use time::OffsetDateTime;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, BufReader};
use tokio::net::{TcpListener, TcpStream, UdpSocket};

/// Bytes of a message, at most.
const LONGEST: usize = 65_536;

fn received(message: &str) -> Received {
    let id = message.split(" id=\"").nth(1).and_then(|rest| rest.split('"').next());
    Received {
        at: OffsetDateTime::now_utc(),
        channel: "syslog",
        id: id.map(str::to_owned),
        signed: None,
        taken: true,
        text: message.to_owned(),
    }
}

async fn read(stream: TcpStream, inbox: &Inbox) -> io::Result<()> {
    let mut stream = BufReader::new(stream);
    loop {
        let mut length = Vec::new();
        if stream.read_until(b' ', &mut length).await? == 0 {
            return Ok(());
        }
        let length = String::from_utf8_lossy(&length).trim().parse::<usize>();
        let length = length.ok().filter(|length| *length <= LONGEST);
        let mut message = vec![0; length.ok_or(io::ErrorKind::InvalidData)?];
        stream.read_exact(&mut message).await?;
        inbox.add(received(&String::from_utf8_lossy(&message)));
    }
}

/// Collects messages from both sockets, for as long as the runtime lives.
pub fn serve_syslog(datagrams: UdpSocket, streams: TcpListener, inbox: Inbox) {
    let of_datagrams = inbox.clone();
    tokio::spawn(async move {
        let mut buffer = vec![0; LONGEST];
        while let Ok((length, _)) = datagrams.recv_from(&mut buffer).await {
            of_datagrams.add(received(&String::from_utf8_lossy(&buffer[..length])));
        }
    });
    tokio::spawn(async move {
        while let Ok((stream, _)) = streams.accept().await {
            let inbox = inbox.clone();
            tokio::spawn(async move {
                if let Err(error) = read(stream, &inbox).await {
                    tracing::debug!(%error, "a stream of syslog messages ended early");
                }
            });
        }
    });
}
