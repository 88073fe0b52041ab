//! Signing in: a token for this program, kept where only its own account can read it.

use super::http::Client;
use super::show;
use crate::args::{TokensCommand, UsersCommand};
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use itinera_service::secret_file;
use serde_json::{Map, Value, json};
use std::io::{BufRead, IsTerminal, Write};
use std::path::{Path, PathBuf};

/// How long the token of a sign-in opens.
const KEPT_DAYS: u16 = 30;

/// The token to use with a service: from the file named, else from an earlier sign-in.
pub(crate) fn token_for(api: &str, file: Option<&Path>) -> Result<Option<String>, Failure> {
    if let Some(file) = file {
        let text = std::fs::read_to_string(file).map_err(|error| {
            Failure::new(Code::BadFile, error).context(format!("cannot read {}", file.display()))
        })?;
        return Ok(Some(text.trim().to_owned()));
    }
    let Some(kept) = kept_at() else { return Ok(None) };
    Ok(read_kept(&kept)?[key(api)]["token"].as_str().map(str::to_owned))
}

/// One service, one key: without a slash at its end.
fn key(api: &str) -> &str {
    api.trim_end_matches('/')
}

fn kept_at() -> Option<PathBuf> {
    let config = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from);
    let config = config
        .filter(|path| path.is_absolute())
        .or_else(|| std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".config")))?;
    Some(config.join("itinera/sign-ins.json"))
}

fn read_kept(path: &Path) -> Result<Value, Failure> {
    let bad = |reason: String| {
        let text = format!("{}: {reason}; remove it and sign in again", path.display());
        Failure::say(Code::BadFile, text)
    };
    match std::fs::read(path) {
        Ok(octets) => serde_json::from_slice(&octets).map_err(|error| bad(error.to_string())),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Value::Object(Map::new())),
        Err(error) => Err(bad(error.to_string())),
    }
}

/// Writes a file for this account's eyes only, whole or not at all.
pub(crate) fn write_secret(path: &Path, text: &str) -> Result<(), Failure> {
    let failed = |error: std::io::Error| {
        Failure::new(Code::Failed, error).context(format!("cannot write {}", path.display()))
    };
    if let Some(parent) = path.parent() {
        std::fs::create_dir_all(parent).map_err(failed)?;
    }
    secret_file::write(path, text).map_err(failed)
}

fn keep(api: &str, entry: Option<Value>) -> Result<PathBuf, Failure> {
    let path = kept_at().ok_or_else(|| {
        let text = "HOME is not set, so there is no place to keep a token; use --token-file FILE";
        Failure::say(Code::Failed, text)
    })?;
    let mut kept = read_kept(&path)?;
    if let Some(all) = kept.as_object_mut() {
        match entry {
            Some(entry) => drop(all.insert(key(api).to_owned(), entry)),
            None => drop(all.remove(key(api))),
        }
    }
    write_secret(&path, &format!("{kept:#}\n"))?;
    Ok(path)
}

/// The password: asked for without showing it, or the first line of standard input.
fn asked_password(name: &str, stdin: bool) -> Result<String, Failure> {
    if !stdin && std::io::stdin().is_terminal() {
        let asked = rpassword::prompt_password(format!("Password of {name}: "));
        return asked.map_err(|error| Failure::new(Code::Failed, error));
    }
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    let line = line.trim_end_matches(['\r', '\n']);
    if line.is_empty() {
        let text = "no password: give it on standard input, or sign in from a terminal";
        return Err(Failure::say(Code::Refused, text));
    }
    Ok(line.to_owned())
}

/// Makes a token for this program with a name and a password.
pub(crate) async fn token_by_password(
    client: &Client,
    name: &str,
    password: &str,
    purpose: &str,
    lifetime_days: u16,
) -> Result<Value, Failure> {
    let session = client.session(name, password).await?;
    let wanted = json!({ "name": purpose, "lifetime_days": lifetime_days });
    let made = session.post("/tokens", &wanted).await;
    let _ended = session.delete("/session").await;
    made
}

pub(crate) async fn sign_in(
    client: &Client,
    output: &Output,
    api: &str,
    name: Option<&str>,
    stdin: bool,
) -> Result<(), Failure> {
    let name = match name {
        Some(name) => name.to_owned(),
        None if std::io::stdin().is_terminal() => {
            write!(std::io::stderr(), "Name: ")?;
            let mut line = String::new();
            std::io::stdin().lock().read_line(&mut line)?;
            line.trim().to_owned()
        }
        None => return Err(Failure::say(Code::Refused, "who signs in? give --name NAME")),
    };
    let password = asked_password(&name, stdin)?;
    let made = token_by_password(client, &name, &password, "command line", KEPT_DAYS).await?;
    let id = &made["id"];
    let entry = json!({ "token": made["token"], "id": id, "expires_at": made["expires_at"] });
    let path = keep(api, Some(entry))?;
    if output.is_json() {
        return output.json(&json!({ "name": name, "id": id, "expires_at": made["expires_at"] }));
    }
    output.line(&plain(&format!(
        "Signed in as {name}, {}, until {}. The token is in {}.",
        made["role"].as_str().unwrap_or_default(),
        made["expires_at"].as_str().unwrap_or_default(),
        path.display()
    )))
}

pub(crate) async fn sign_out(client: &Client, output: &Output, api: &str) -> Result<(), Failure> {
    let kept = kept_at().map(|path| read_kept(&path)).transpose()?.unwrap_or_default();
    let Some(id) = kept[key(api)]["id"].as_str() else {
        return output.line("You were not signed in here.");
    };
    let revoked = client.delete(&format!("/tokens/{id}")).await;
    keep(api, None)?;
    match revoked {
        Ok(_) => output.line("Signed out: the token opens nothing any more."),
        Err(failure) => Err(failure.context("the token is forgotten here, but was not revoked")),
    }
}

pub(crate) async fn of_tokens(
    client: &Client,
    output: &Output,
    command: TokensCommand,
) -> Result<(), Failure> {
    match command {
        TokensCommand::List => {
            let value = client.get("/tokens").await?;
            output.either(&value, |output| show::tokens(output, &value["items"]))
        }
        TokensCommand::Make { name, role, lifetime_days } => {
            let wanted = json!({ "name": name, "role": role, "lifetime_days": lifetime_days });
            let made = client.post("/tokens", &wanted).await?;
            output.either(&made, |output| {
                output.line(made["token"].as_str().unwrap_or_default())?;
                output.line("It is shown this once. Send it as `Authorization: Bearer TOKEN`.")
            })
        }
        TokensCommand::Revoke { id } => {
            client.delete(&format!("/tokens/{id}")).await?;
            output.either(&json!({ "revoked": id }), |output| output.line("Revoked."))
        }
    }
}

pub(crate) async fn of_users(
    client: &Client,
    output: &Output,
    command: UsersCommand,
) -> Result<(), Failure> {
    let users = match command {
        UsersCommand::List => client.get("/users").await?["items"].take(),
        UsersCommand::Add { name, role } => {
            let password = asked_password(&name, false)?;
            let wanted = json!({ "name": name, "role": role, "password": password });
            Value::Array(vec![client.post("/users", &wanted).await?])
        }
        UsersCommand::Change { name, role, active, password } => {
            let id = id_of(client, &name).await?;
            let password = password.then(|| asked_password(&name, false)).transpose()?;
            let patch = json!({ "role": role, "active": active, "password": password });
            Value::Array(vec![client.patch(&format!("/users/{id}"), &patch).await?])
        }
    };
    output.either(&users, |output| show::users(output, &users))
}

async fn id_of(client: &Client, name: &str) -> Result<String, Failure> {
    let users = client.get("/users").await?;
    let user = users["items"].as_array().into_iter().flatten().find(|p| p["name"] == name);
    user.and_then(|user| user["id"].as_str()).map(str::to_owned).ok_or_else(|| {
        let text = format!("no user is named {name:?}; `itinera users list` shows all users");
        Failure::say(Code::Refused, text)
    })
}

pub(crate) async fn audit(client: &Client, output: &Output) -> Result<(), Failure> {
    let items = client.all_pages("/audit?limit=500").await?;
    output.either(&items, |output| show::audit(output, &items))
}
