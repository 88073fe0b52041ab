//! The server that e-mail goes through, the CA certificates of receivers, and tags.

use super::LineError;
use itinera_store::{TagOf, Tagged};
use lettre::message::Mailbox;
use serde::Deserialize;
use std::net::IpAddr;
use std::path::PathBuf;
use toml::Spanned;

/// How a connection to the mail server is encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum MailTls {
    /// By STARTTLS, which the server must offer (RFC 3207).
    StartTls,
    /// From the first byte (RFC 8314).
    Implicit,
    /// Not at all.
    None,
}

/// The server that e-mail goes through.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MailServer {
    /// Name or address.
    pub host: String,
    /// Port.
    pub port: u16,
    /// Encryption.
    pub tls: MailTls,
    /// The sender's address.
    pub from: Mailbox,
    /// The name that this machine has towards it.
    pub hello: Option<String>,
    /// User, and the file that holds the password.
    pub user: Option<(String, PathBuf)>,
}

/// What sending notices needs.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct NoticesConfig {
    /// CA certificates of receivers, beside those of the system.
    pub ca_file: Option<PathBuf>,
    /// The mail server; absent where no e-mail is sent.
    pub mail: Option<MailServer>,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields)]
pub(super) struct NoticesEntry {
    ca_file: Option<PathBuf>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct MailEntry {
    server: Spanned<String>,
    port: Option<u16>,
    #[serde(default = "default_tls")]
    tls: Spanned<MailTls>,
    from: Spanned<String>,
    hello: Option<Spanned<String>>,
    user: Option<Spanned<String>>,
    password_file: Option<PathBuf>,
}

fn default_tls() -> Spanned<MailTls> {
    super::unplaced(MailTls::StartTls)
}

fn is_this_machine(host: &str) -> bool {
    let address = host.parse::<IpAddr>();
    host.eq_ignore_ascii_case("localhost") || address.is_ok_and(|it| it.is_loopback())
}

impl MailEntry {
    fn read(self) -> Result<MailServer, LineError> {
        let host_name = |key: &str, text: &Spanned<String>| {
            let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | ':');
            match text.as_ref() {
                host if !host.is_empty() && host.chars().all(fits) => Ok(host.clone()),
                host => Err((text.span().start, format!("{key}: {host:?} is no name of a host"))),
            }
        };
        let host = host_name("server", &self.server)?;
        let from = self.from.as_ref().parse::<Mailbox>().map_err(|_| {
            let reason = format!("from: {:?} is no address of e-mail", self.from.as_ref());
            (self.from.span().start, reason)
        })?;
        let tls = *self.tls.as_ref();
        let user = match (self.user, self.password_file) {
            (None, None) => None,
            (Some(user), Some(file)) => Some((user.into_inner(), file)),
            (Some(user), None) => {
                return Err((user.span().start, "user: needs a password_file".to_owned()));
            }
            (None, Some(_)) => {
                let reason = "password_file: needs a user".to_owned();
                return Err((self.server.span().start, reason));
            }
        };
        if user.is_some() && tls == MailTls::None && !is_this_machine(&host) {
            let reason = "tls: a password needs starttls or implicit".to_owned();
            return Err((self.tls.span().start, reason));
        }
        let port = self.port.unwrap_or(match tls {
            MailTls::StartTls => 587,
            MailTls::Implicit => 465,
            MailTls::None => 25,
        });
        let hello = self.hello.as_ref().map(|it| host_name("hello", it)).transpose()?;
        Ok(MailServer { host, port, tls, from, hello, user })
    }
}

impl NoticesConfig {
    pub(super) fn read(notices: NoticesEntry, mail: Option<MailEntry>) -> Result<Self, LineError> {
        Ok(Self { ca_file: notices.ca_file, mail: mail.map(MailEntry::read).transpose()? })
    }
}

/// The tags of a site or service.
pub(super) fn tags_of(kind: TagOf, name: &str, tags: &[Spanned<String>]) -> Vec<Tagged> {
    let tagged =
        |tag: &Spanned<String>| Tagged { tag: tag.as_ref().clone(), kind, name: name.to_owned() };
    tags.iter().map(tagged).collect()
}

#[cfg(test)]
mod tests {
    use crate::config::{Config, MailTls};

    const MAIL: &str = "[mail]\nserver = \"mail.corriven.example\"\n\
        from = \"Itinera <itinera@corriven.example>\"\n";

    #[test]
    fn a_mail_server_has_the_usual_port_and_encrypts() {
        let mail = Config::parse(MAIL).unwrap().notices.mail.unwrap();
        assert_eq!((mail.port, mail.tls, mail.user), (587, MailTls::StartTls, None));
        let text = format!("{MAIL}tls = \"implicit\"\nuser = \"i\"\npassword_file = \"/p\"\n");
        let mail = Config::parse(&text).unwrap().notices.mail.unwrap();
        assert_eq!((mail.port, mail.user), (465, Some(("i".to_owned(), "/p".into()))));
        assert_eq!(Config::parse("").unwrap().notices.mail, None);
    }

    #[test]
    fn each_mistake_about_mail_names_its_line_and_key() {
        for (from, to, line, key) in [
            ("mail.corriven.example", "mail server", 2, "server"),
            ("Itinera <itinera@corriven.example>", "Itinera", 3, "from"),
            ("from", "user = \"i\"\nfrom", 3, "user"),
            ("from", "password_file = \"/p\"\nfrom", 2, "password_file"),
            ("from", "tls = \"none\"\nuser = \"i\"\npassword_file = \"/p\"\nfrom", 3, "tls"),
            ("from", "tls = \"ssl\"\nfrom", 3, "tls"),
        ] {
            let error = Config::parse(&MAIL.replacen(from, to, 1)).unwrap_err();
            assert_eq!((error.line, error.reason.contains(key)), (line, true), "{error}");
        }
    }

    #[test]
    fn a_site_names_the_provider_that_it_pays() {
        let text = "[[site]]\nname = \"Eskerry\"\n\
            contract = { holder = \"Fennel Fibre\", contact = \"+44 1632 960 001\" }\n";
        let contracts = Config::parse(text).unwrap().contracts;
        assert_eq!(
            (contracts[0].site.as_str(), contracts[0].holder.as_str()),
            ("Eskerry", "Fennel Fibre")
        );
        let error = Config::parse(&text.replacen("Fennel Fibre", "", 1)).unwrap_err();
        assert_eq!((error.line, error.reason.contains("holder")), (3, true), "{error}");
        let error = Config::parse(&text.replacen("contact", "phone", 1)).unwrap_err();
        assert_eq!((error.line, error.reason.contains("phone")), (3, true), "{error}");
    }

    #[test]
    fn sites_and_services_have_tags() {
        let text = "[[site]]\nname = \"Eskerry\"\ntags = [\"harbour\", \"north\"]\n\
            [[target]]\nname = \"Front\"\nservice = \"Seat Booking\"\n\
            addresses = [\"198.18.128.10\"]\ntags = [\"public\"]\n";
        let tags = Config::parse(text).unwrap().tags;
        let tags: Vec<_> = tags.iter().map(|it| (it.name.as_str(), it.tag.as_str())).collect();
        let expected = [("Eskerry", "harbour"), ("Eskerry", "north"), ("Seat Booking", "public")];
        assert_eq!(tags, expected);
        let error = Config::parse(&text.replacen("north", "", 1)).unwrap_err();
        assert_eq!((error.line, error.reason.contains("tags")), (3, true), "{error}");
    }
}
