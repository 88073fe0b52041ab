//! The test receivers of the demonstration, named to its service.

use super::Ports;
use super::directory::Directory;
use crate::client::Client;
use crate::client::sign_in::write_secret;
use crate::exit::Failure;
use serde_json::{Map, Value, json};

/// What a configuration needs so that e-mail goes to the test receiver.
pub(super) fn mail_server(ports: &Ports) -> String {
    format!(
        "\n[mail]\nserver = \"127.0.0.1\"\nport = {}\ntls = \"none\"\n\
         from = \"Itinera <itinera@corriven.example>\"\n",
        ports.mail()
    )
}

fn receivers(ports: &Ports) -> [Value; 4] {
    let webhooks = format!("http://127.0.0.1:{}", ports.webhooks());
    [
        json!({
            "name": "Operations desk", "channel": "webhook", "url": format!("{webhooks}/webhook"),
            "routes": [{}],
        }),
        json!({
            "name": "Duty engineer", "channel": "mail", "to": ["duty@corriven.example"],
            "routes": [{ "severity": "major" }],
        }),
        json!({
            "name": "Log collector", "channel": "syslog", "host": "127.0.0.1",
            "port": ports.syslog(), "transport": "udp", "routes": [{}],
        }),
        json!({
            "name": "Uplink switch", "channel": "action", "url": format!("{webhooks}/action"),
            "per_hour": 2, "routes": [{ "severity": "major" }],
        }),
    ]
}

/// Adds the receivers, or points those of an earlier run to where they are now. Their secrets are written
/// for the program that receives.
pub(super) async fn name_receivers(
    client: &Client,
    directory: &Directory,
    ports: &Ports,
) -> Result<(), Failure> {
    let known = client.get("/receivers").await?["items"].take();
    let mut secrets = Map::new();
    for receiver in receivers(ports) {
        let earlier = known.as_array().into_iter().flatten();
        let earlier =
            earlier.filter(|it| it["name"] == receiver["name"]).find_map(|it| it["id"].as_str());
        let made = match earlier {
            Some(id) => client.put(&format!("/receivers/{id}?new_secret=true"), &receiver).await?,
            None => client.post("/receivers", &receiver).await?,
        };
        if let (Some(id), Some(secret)) = (made["id"].as_str(), made["secret"].as_str()) {
            secrets.insert(id.to_owned(), secret.into());
        }
    }
    write_secret(&directory.receiver_secrets(), &Value::from(secrets).to_string())
}
