//! Test receivers of notices beside the simulated internet, on loopback.

use crate::args::SimulateArgs;
use crate::exit::{Code, Failure};
use itinera_testserver::receivers::{
    Habit, Inbox, Secrets, serve_mail, serve_syslog, serve_webhooks,
};
use std::net::SocketAddr;
use tokio::net::{TcpListener, UdpSocket};

fn unbound(address: SocketAddr) -> impl FnOnce(std::io::Error) -> Failure {
    move |error| Failure::new(Code::Failed, error).context(format!("cannot listen on {address}"))
}

async fn bind(flag: &str, address: SocketAddr) -> Result<TcpListener, Failure> {
    if !address.ip().is_loopback() {
        let text = format!("{flag} {address}: test receivers listen on loopback only");
        return Err(Failure::say(Code::Failed, text));
    }
    TcpListener::bind(address).await.map_err(unbound(address))
}

/// Starts those that are asked for.
pub(super) async fn start(args: &SimulateArgs) -> Result<(), Failure> {
    let Some(webhooks) = args.webhooks else { return Ok(()) };
    let inbox = Inbox::default();
    let listener = bind("--webhooks", webhooks).await?;
    let origin = format!("http://{}", listener.local_addr()?);
    let secrets = match &args.receiver_secrets {
        Some(file) => Secrets::File(file.clone()),
        None => Secrets::None,
    };
    serve_webhooks(listener, &origin, (inbox.clone(), Habit::Good.into(), secrets), None);
    if let Some(mail) = args.mail {
        serve_mail(bind("--mail", mail).await?, inbox.clone(), Habit::Good.into(), None);
    }
    if let Some(syslog) = args.syslog {
        let streams = bind("--syslog", syslog).await?;
        let datagrams = UdpSocket::bind(syslog).await.map_err(unbound(syslog))?;
        serve_syslog(datagrams, streams, inbox);
    }
    Ok(())
}
